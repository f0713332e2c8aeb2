"""rate: how many messages may leave."""

from ivrel.core.settings.valued import ValuePart, valued
from ivrel.core.vocabulary.values import RATE

SETTING = valued(
    "rate",
    ValuePart("", "rate", RATE),
    what="the rate",
    kind="messages a second; none is without limit",
    meaning="how many messages may leave in a second",
    effect="bursts that were cut off begin to arrive whole",
    matters="a limit below what a bad day brings drops the messages of that day",
    meets="rate: {at-least: 100}  ←  no limit, or one of 500",
    breaks="rate: {at-least: 100}  ←  a limit of 10",
)
