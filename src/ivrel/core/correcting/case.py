"""One correction on its way: what it is judged by, and the texts that it has been tried on."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import date

from msgspec import Struct

from ivrel.core.correcting.answer_cache import CorrectionCache
from ivrel.core.correcting.answers import StateAnswers
from ivrel.core.correcting.changes import apply_edits
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.fleet import Device
from ivrel.core.judging.auditor import Auditor
from ivrel.core.judging.judge import hosts_of, with_waivers
from ivrel.core.policy import Policy, Requirement
from ivrel.core.reading.records import Records, read_records
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.verdict import DeviceResult


class Start(Struct, frozen=True):
    """A configuration before anything is changed: the case, the answers about it, its verdicts."""

    case: Case
    state: StateAnswers
    before: DeviceResult


class Case:
    """What a correction is judged by, made for one device and one run.

    `auditor`: knows the policy, and verdicts of other devices; `whole`: all that the policy asks of
    the device; `asked`: the requirements that the correction is about; `prefer`: gives one of them
    with what is to be written where it leaves that open; `waived`: settings that are
    left alone; `file`: what the configuration is called; `first`: its text as it is; `memory`: what
    is known of other devices.
    """

    def __init__(
        self,
        device: Device,
        dialect: Dialect,
        auditor: Auditor,
        whole: Mapping[str, Requirement],
        asked: Mapping[str, Requirement],
        prefer: Callable[[Requirement], Requirement],
        waived: frozenset[str],
        file: str,
        first: Text,
        memory: CorrectionCache,
    ) -> None:
        self.device = device
        self.dialect = dialect
        self.auditor = auditor
        self.whole = whole
        self.asked = asked
        self.prefer = prefer
        self.waived = waived
        self.file = file
        self.memory = memory
        self._texts = {first.data: first}

    @property
    def policy(self) -> Policy:
        """The policy that the device is held against."""
        return self.auditor.policy

    @property
    def today(self) -> date:
        """The day that waivers are judged for."""
        return self.auditor.today

    def text(self, data: bytes) -> Text:
        """Return the text of some content: one object, so that it is parsed once."""
        found = self._texts.get(data)
        if found is None:
            found = self._texts[data] = Text(data, whole=True)
        return found

    def read(self, text: Text) -> Records:
        """Return the records of a text; Unreadable if it is not of the platform."""
        return read_records(self.dialect, text, hosts=hosts_of(self.policy))

    def apply(self, text: Text, edits: Sequence[Edit]) -> Text:
        """Return the text after edits; Refused if the platform would not take one of them."""
        return apply_edits(self.dialect, text, edits, self.text)

    def result(self, state: StateAnswers) -> DeviceResult:
        """Return all verdicts of a state, with the waivers that hold, and without the lines that
        decide: its text is no file yet.
        """
        verdicts = self.auditor.judge(
            state.plain, self.whole, self.file, state.foreseen, told=False
        )
        return with_waivers(self.device, verdicts, self.policy, self.today)
