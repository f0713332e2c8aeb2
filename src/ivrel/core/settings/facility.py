"""facility: what messages call the part of the system that they come from."""

from ivrel.core.settings.valued import ValuePart, valued
from ivrel.core.vocabulary.values import FACILITY

SETTING = valued(
    "facility",
    ValuePart("", "facility", FACILITY),
    absent="as sent",
    what="the facility",
    kind="one of the 24 facilities",
    meaning="the facility that messages leave with",
    effect="collectors that sort by facility file its messages elsewhere from then on",
    matters="collectors sort and keep by facility; the wrong one lands in the wrong file, or in "
    "none",
    meets="facility: local6  ←  facility local6",
    breaks="facility: local6  ←  facility local4",
)
