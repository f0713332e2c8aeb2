"""numbering: each message bears a number."""

from ivrel.core.settings.valued import ValuePart, valued
from ivrel.core.vocabulary.values import SWITCH

SETTING = valued(
    "numbering",
    ValuePart("", "numbering", SWITCH),
    what="sequence numbers",
    kind="on or off",
    meaning="messages bear sequence numbers",
    effect="messages bear a number, or bear none: what reads them must know that",
    matters="a gap in the numbers is the only proof that a message was lost on the way",
    meets="numbering: on  ←  number on",
    breaks="numbering: on  ←  number off, or nothing on a platform that ships without",
)
