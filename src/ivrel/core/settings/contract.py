"""The contract of a setting: what each file of this package offers, and what its findings are.

Facts, findings and obstacles are typed: what kind of thing is reported, about what, with the values
that were found and wanted. `sentences.py` makes words of them, and nothing else does.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import TYPE_CHECKING, Any, Literal

from msgspec import Struct

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.form import Node, Report
from ivrel.core.policy.collector import Collector
from ivrel.core.policy.need import Needs
from ivrel.core.settings.sentences import sentence
from ivrel.core.vocabulary.sourced import SourcedValue

if TYPE_CHECKING:
    from ivrel.core.reading.records import Records
    from ivrel.core.settings.scope import Scope

More = tuple[tuple[str, str], ...]  # further values of a sentence, by name


class Fact(Struct, frozen=True, gc=False):
    """One thing that a configuration says about a setting.

    `of`: the destination or row that it is said of, '' for the device; `part`: which part of the
    setting; `value`: as the policy would ask for it; `default`: the text leaves it to the platform;
    `doubt`: why it is not sure, '' if it is.
    """

    setting: str
    of: str
    part: str
    value: str
    lines: tuple[int, ...]
    default: bool
    note: str = ""
    doubt: str = ""

    @property
    def key(self) -> str:
        """What it is said of, and the part."""
        return about_of(self.of, self.part)


class Obstacle(Struct, frozen=True):
    """Why a correction cannot be written.

    `unable`: the platform cannot express it; `about`: as in the finding of what cannot be
    corrected, '' is all that the setting finds.
    """

    kind: str
    about: str = ""
    title: str = ""
    wanted: str = ""
    more: More = ()
    unable: bool = False

    @property
    def why(self) -> str:
        """The obstacle in words."""
        return sentence(self.kind, self.title, "", self.wanted, self.more)


class Finding(Struct, frozen=True, gc=False):
    """Why a setting is not as asked, and the lines that decide it.

    `kind`: a row of the table of sentences; `about`: a destination, a feed, a part, '' is the
    device as a whole; `title`: what people call it; `found` and `wanted`: the values; `default`:
    the platform whose default `found` is; `cannot`: why this platform can never be as asked, if it
    cannot.
    """

    kind: str
    about: str = ""
    title: str = ""
    found: str = ""
    wanted: str = ""
    more: More = ()
    lines: tuple[int, ...] = ()
    judged: Literal["breaks", "unknown", "unable"] = "breaks"
    default: str = ""
    cannot: Obstacle | None = None

    @property
    def verdict(self) -> str:
        """What the finding alone makes of its setting."""
        # What this platform can never do is not a fault of its configuration.
        return "unable" if self.judged == "breaks" and self.cannot is not None else self.judged

    @property
    def why(self) -> str:
        """The finding in words."""
        return sentence(self.kind, self.title, self.found, self.wanted, self.more, self.default)


class SharedRequirements(Struct, frozen=True):
    """What is asked of devices alike, setting by setting, and where they are if that is known."""

    needs: Mapping[str, Needs]
    collectors: Mapping[str, Collector]
    site: str | None = None
    dialect: Dialect | None = None

    @property
    def wanted(self) -> list[Collector]:
        """The collectors that must be sent to."""
        need = self.needs.get("collectors", {}).get("")
        named = need.wanted if need else ()
        return [self.collectors[name] for name in named if name in self.collectors]

    def passed_on(self, name: str, fits: Callable[[Collector], bool]) -> bool:
        """Whether a relay that fits forwards to a collector, so that nothing need go there
        directly.
        """
        return any(name in c.reaches and fits(c) for c in self.collectors.values())


class Clash(Struct, frozen=True):
    """Why a requirement cannot be wanted together with that of another setting."""

    setting: str
    why: str


def no_clashes(asked: SharedRequirements) -> Iterator[Clash]:
    """For settings that can be asked for whatever else is."""
    return iter(())


def say_facts(facts: list[Fact]) -> str:
    """Return facts in few words: one value, or one for each destination."""
    values = dict.fromkeys(f.value for f in facts)
    if len(values) < 2:
        return next(iter(values), "nothing")
    return "; ".join(f"{f.key}: {f.value}" for f in facts)


class Setting(Struct, frozen=True):
    """One setting: everything about it, in one file of this package.

    `slots`: those that say it; `hangs_on`: other slots that decide on it; `reads`: the other
    settings whose slots the judgement reads; `by_row`: the table whose rows it judges one by one,
    so that what is amiss in one does not depend on the others, '' if there is none; `effect`: what
    a change of it brings about elsewhere, '' if nothing.

    `ask` reads what a policy asks for; `facts` tells what a configuration says; `judge` finds what
    is not as asked, also that a platform can never be so; `mend` changes the records so that it is,
    with an obstacle for what cannot be; `say` puts the facts in few words; `clashes` finds what
    else is asked and cannot be had with it.
    """

    name: str
    kind: str
    meaning: str
    matters: str
    meets: str
    breaks: str
    slots: tuple[str, ...]
    ask: Callable[[Node, Report, Mapping[str, Collector]], Needs | None]
    facts: Callable[[Scope], list[Fact]]
    judge: Callable[[Scope, Needs], list[Finding]]
    mend: Callable[[Scope, Needs], tuple[Records, list[Obstacle]]]
    say: Callable[[list[Fact]], str] = say_facts
    clashes: Callable[[SharedRequirements], Iterator[Clash]] = no_clashes
    hangs_on: tuple[str, ...] = ()
    reads: tuple[str, ...] = ("collectors",)
    by_row: str = ""
    effect: str = ""


def about_of(label: str, part: str) -> str:
    """Return the subject of a finding: a part of the values in one place."""
    return f"{label} {part}".strip()


def need_of(needs: Needs, label: str) -> Any:
    """Return the need for one destination: its own, or else that for all."""
    return needs.get(label, needs[""])


def silent_on(dialect: Dialect, what: str, about: str = "") -> Finding:
    """Return the finding for what a dialect describes nowhere: nobody knows whether it is as
    asked.
    """
    return Finding("silent", about, found=dialect.name, more=(("what", what),), judged="unable")


def no_destination(scope: Scope) -> list[Finding]:
    """Return the finding for a setting of destinations where there is none to judge."""
    return [Finding("no-destination", judged="unknown")]


def default_of(said: SourcedValue, dialect: Dialect) -> str:
    """Return the platform whose default a value is; '' if the text says it."""
    return dialect.name if said.default else ""


def no_choice(title: str = "", about: str = "") -> Obstacle:
    """Return the obstacle where many values would do and the policy names none."""
    return Obstacle("no-choice", about, title)
