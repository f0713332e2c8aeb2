"""One correction on its way: what it is judged by, and the texts that it has been tried on."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from datetime import date

from msgspec import Struct

from ivrel.core.correcting.answers import Answers
from ivrel.core.correcting.changes import apply_edits
from ivrel.core.correcting.usual import NOTHING_USUAL, Usual, preferring
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.fleet import Device
from ivrel.core.judging.judge import scope_of, with_waivers
from ivrel.core.policy import Policy, Requirement, effective
from ivrel.core.reading.records import Records, read_records
from ivrel.core.settings import Scope
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.verdict import DeviceResult


class Start(Struct, frozen=True):
    """A configuration before anything is changed: the case, the answers about it, its verdicts."""

    case: Case
    state: Answers
    before: DeviceResult


class Case:
    """What a correction is judged by, made for one device and one run.

    `asked`: the requirements that the correction is about; `whole`: all that the policy asks of the
    device; `waived`: settings that are left alone; `file`: what the configuration is called.
    """

    def __init__(
        self,
        device: Device,
        dialect: Dialect,
        policy: Policy,
        asked: Mapping[str, Requirement],
        waived: frozenset[str],
        file: str,
        today: date,
        whole: Mapping[str, Requirement] | None = None,
    ) -> None:
        self.device, self.dialect, self.policy = device, dialect, policy
        self.asked, self.whole = asked, whole or asked
        self.waived, self.file, self.today = waived, file, today
        self._texts: dict[bytes, Text] = {}

    def asking(self, asked: Mapping[str, Requirement], whole: Mapping[str, Requirement]) -> Case:
        """Return the same case with other requirements."""
        return self._with(asked, whole, self.waived)

    def waiving(self, settings: frozenset[str]) -> Case:
        """Return the same case, which leaves these settings alone."""
        return self._with(self.asked, self.whole, settings)

    def _with(
        self,
        asked: Mapping[str, Requirement],
        whole: Mapping[str, Requirement],
        waived: frozenset[str],
    ) -> Case:
        out = Case(
            *(self.device, self.dialect, self.policy, asked, waived),
            *(self.file, self.today, whole),
        )
        out._texts = self._texts
        return out

    def text(self, data: bytes) -> Text:
        """Return the text of some content: one object, so that it is parsed once."""
        found = self._texts.get(data)
        if found is None:
            found = self._texts[data] = Text(data, whole=True)
        return found

    def scope(self, records: Records) -> Scope:
        """Return the scope over records."""
        return scope_of(self.device, records, self.policy, self.whole)

    def read(self, text: Text) -> Records:
        """Return what a text says; Unreadable if it is none of the platform's."""
        return read_records(self.dialect, text)

    def apply(self, text: Text, edits: Sequence[Edit]) -> Text:
        """Return the text after edits; Refused if the platform would not take one of them."""
        return apply_edits(self.dialect, text, edits, self.text)

    def answers(self, records: Records, like: Answers | None = None) -> Answers:
        """Return the answers about records; `like`: those about another state of them."""
        return Answers(self.scope(records), like)

    def result(self, state: Answers) -> DeviceResult:
        """Return all verdicts of a state, with the waivers that hold."""
        verdicts = state.verdicts(self.whole.values(), self.file)
        return with_waivers(self.device, verdicts, self.policy, self.today)


def start(
    device: Device,
    dialect: Dialect,
    data: bytes,
    policy: Policy,
    today: date,
    file: str,
    only: Collection[str] = (),
    usual: Usual = NOTHING_USUAL,
) -> Start:
    """Return a configuration with what it is judged by; Unreadable if it is none.

    `only`: the settings that it is about; all, if there are none. `file`: what the configuration is
    called; `usual`: what most of the fleet has. What is waived is left alone.
    """
    whole = effective(policy, device)
    every = Case(device, dialect, policy, whole, frozenset(), file, today, whole)
    records = every.read(every.text(data))
    scope = every.scope(records)
    whole = {name: preferring(r, scope, usual) for name, r in whole.items()}
    asked = {name: r for name, r in whole.items() if not only or name in only}
    every = every.asking(asked, whole)
    state = every.answers(records)
    before = every.result(state)
    waived = frozenset(v.setting for v in before.verdicts if v.verdict == "waived")
    return Start(every.waiving(waived), state, before)
