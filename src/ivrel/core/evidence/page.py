"""The page about one device: lines from its configuration to its collectors."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

# The parts of the page, in the order in which a message goes its way.
CONFIGURATION = "configuration"
DISPLAY = "display"
MESSAGES = "messages"
OTHERS = "others"
COLLECTORS = "collectors"
PATH = "path"
PARTS: Mapping[str, str] = {
    CONFIGURATION: "what its configuration does",
    DISPLAY: "what it shows of its present state",
    MESSAGES: "what was heard of it",
    OTHERS: "what others sent under its name, or from its network",
    COLLECTORS: "its collectors",
    PATH: "what of the way is proved",
}
GOOD = "good"
BAD = "bad"
OPEN = "open"
NOTE = "note"


class WhyLine(Struct, frozen=True):
    """One line of the page: `part`: see PARTS; `about`: what it is about, in a word or two;
    `state`: 'good', 'bad', 'open' (not known) or 'note'; `where`: the file and line that decide.
    """

    part: str
    about: str
    said: str
    state: str = NOTE
    where: str = ""
