"""delivery: when messages leave, and how many may wait."""

from ivrel.core.settings.valued import ValuePart, valued
from ivrel.core.vocabulary.values import MODE, NUMBER

SETTING = valued(
    "delivery",
    ValuePart("mode", "delivery-mode", MODE),
    ValuePart("queue", "delivery-queue", NUMBER),
    what="how messages are delivered",
    kind="mode (immediate, batch), queue (messages)",
    meaning="whether messages leave as they happen, and how many may wait",
    matters="what leaves in batches is lost in a crash, and so is what no queue holds",
    meets="delivery: {mode: immediate, queue: {at-least: 500}}  ←  queue 1000",
    breaks="delivery: {mode: immediate}  ←  sent in batches",
)
