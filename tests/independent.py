"""The properties of a correction, worked out again by other means than the proof: every prefix of
the change applied to the text, each line left out in turn, the back-out read, all judged by audits
of their own.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from conftest import TODAY
from generated import BASES

from ivrel.core import Refused, Unreadable, correct, read_records
from ivrel.core.correcting import Correction, Corrector
from ivrel.core.correcting.changes import apply_change, apply_edits, fine_edits
from ivrel.core.correcting.corrector import worked_out
from ivrel.core.dialects import Dialect
from ivrel.core.fleet import Device
from ivrel.core.judging import Auditor
from ivrel.core.judging.judge import scope_of
from ivrel.core.policy import Policy, effective
from ivrel.core.settings import Scope, read_settings
from ivrel.core.settings.scope import Destination
from ivrel.core.settings.sending import sendings
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.values import THRESHOLD

# What no correction may touch, of each text that the generated ones grow from.
FOREIGN = {
    "quern": ("inet 192.0.2.9/32", "about free", "gate g", "10 pass tcp", "route 2001:db8::/32"),
    "skarn": ("port.loop9.about = free", "port.up0.state = down", "gate.1.act = pass"),
    "hollin": ("port loop9 { about free; }", "inet 203.0.113.1/30;", "gate 10 { action pass;"),
    "marl": ("[port.loop9]", "state = down", "[gate.1]", "act = pass"),
    "osier": ('<port id="loop1" inet="192.0.2.9/32"/>', '<gate id="g1" act="pass"/>'),
    "ietf-syslog": ('{"name": "loop9"}', '"x:a": {"b": "c"}'),
    "ietf-syslog.xml": (
        "<interface><name>up0</name><enabled>false</enabled></interface>",
        "<acls/>",
    ),
    "openconfig": ('"x:acls": {"acl": [{"name": "g"}]}',),
    "openconfig.xml": ("<ip>192.0.2.9</ip>",),
    "rsyslog": ("mail.* -/var/log/mail", "& stop"),
    "rsyslog.folder": ("*.* -/var/log/all",),
}


def _sends(scope: Scope, destination: Destination, channel: str, pri: int) -> bool:
    return bool(sendings(scope, destination)[channel].sure.bits >> pri & 1)


class Checked:
    """One correction, checked again."""

    def __init__(
        self, base: str, dialect: Dialect, device: Device, policy: Policy, text: bytes
    ) -> None:
        self.base, self.dialect, self.device = base, dialect, device
        self.policy, self.text = policy, text
        begun = Corrector(policy, TODAY).start(device, dialect, text, "x")
        self.done: Correction = worked_out(begun)

    def failing(self) -> dict[str, str]:
        """Return the properties that do not hold, and what shows it."""
        if not self.done.changes:
            return {}
        shape = self.dialect.shape
        edits = shape.read_change(self.done.change, "change")
        checks = {
            "complete": self._incomplete(),
            "no worse": self._worse(),
            "settled": self._unsettled(),
            "minimal": self._spare(fine_edits(self.dialect, Text(self.text), edits)),
            "reversible": self._lost(),
            "never silent": self._silence(edits),
            "nothing lost": self._missing(),
            "narrow": self._foreign(),
        }
        return {name: why for name, why in checks.items() if why}

    def _verdicts(self, data: bytes) -> dict[str, tuple[str, object]]:
        """The verdict of each setting, with what is not as asked."""
        found = Auditor(self.policy, TODAY).audit(self.device, self.dialect, data, "x").verdicts
        return {v.setting: (v.verdict, v.findings) for v in found}

    def _scope(self, data: bytes) -> Scope:
        asked = effective(self.policy, self.device)
        return scope_of(self.device, read_records(self.dialect, data), self.policy, asked)

    def _reached(self, data: bytes) -> dict[str, int]:
        """The right collectors that anything leaves for, and how much does."""
        scope = self._scope(data)
        if scope.records.get("export").value == "off":
            return {}
        out: dict[str, int] = {}
        for d in scope.judged:
            bits = sum(s.bits.bit_count() for s in sendings(scope, d).values())
            if d.right and d.collector and bits:
                out[d.collector] = max(out.get(d.collector, 0), bits)
        return out

    def _missing(self) -> str:
        """What is asked to leave, left before for anybody, and does not for a right collector."""
        asked = effective(self.policy, self.device).get("level")
        listed = {r.setting for r in self.done.remains if r.verdict != "unknown"}
        if asked is None or listed & {"level", "collectors"}:
            return ""
        before, after = (self._scope(data) for data in (self.text, self.done.corrected))
        is_on = [s.records.get("export").value != "off" for s in (before, after)]
        for channel in before.records.dialect.channels or ("",):
            for pri in range(192 if is_on[0] else 0):
                word = THRESHOLD.choices[(pri & 7) + 1]
                left = [d for d in before.destinations if d.endpoint[0] and _sends(before, d, channel, pri)]  # fmt: skip
                need = asked.needs.get(channel, asked.needs.get(""))
                least = next(v for v in THRESHOLD.choices if need is not None and need.accepts(v))
                has_to = THRESHOLD.choices.index(word) <= THRESHOLD.choices.index(least)
                still = is_on[1] and any(_sends(after, d, channel, pri) for d in after.judged)
                if left and has_to and not still:
                    return f"{channel} {pri}"
        return ""

    def _incomplete(self) -> str:
        told = {r.setting for r in self.done.remains}
        after = self._verdicts(self.done.corrected)
        return ", ".join(s for s, (verdict, _) in after.items() if verdict == "breaks" and s not in told)  # fmt: skip

    def _worse(self) -> str:
        after = self._verdicts(self.done.corrected)
        good = (s for s, (verdict, _) in self._verdicts(self.text).items() if verdict == "meets")
        return ", ".join(s for s in good if after[s][0] != "meets")

    def _unsettled(self) -> str:
        again = correct(
            self.device, self.dialect, self.done.corrected, self.policy, TODAY, "x"
        ).changes
        return again[0].line if again else ""

    def _spare(self, edits: Sequence[Edit]) -> str:
        """A line without which nothing is worse; what the policy says to write is a reason, too."""
        asked = effective(self.policy, self.device)
        written = {
            name
            for name, r in asked.items()
            if any(getattr(need, "write", None) for need in r.needs.values())
        }
        whole, leaves = self._verdicts(self.done.corrected), self._reached(self.done.corrected)
        said = self._said(self.done.corrected)
        for n, edit in enumerate(edits):
            try:
                rest = [*edits[:n], *edits[n + 1 :]]
                data = apply_edits(self.dialect, Text(self.text), rest).data
                without = self._verdicts(data)
            except (Refused, Unreadable):
                continue  # the others cannot do without it
            if any(without[s] != whole[s] and without[s][0] != "meets" for s in whole):
                continue
            if any(self._reached(data).get(c, 0) < bits for c, bits in leaves.items()):
                continue
            differing = {one[0] for one in self._said(data) ^ said}
            if not differing & written:
                return self.dialect.shape.join(edit.words)
        return ""

    def _said(self, data: bytes) -> set[tuple[str, str, str, bool]]:
        scope = Scope(None, read_records(self.dialect, data), {})
        return {(f.setting, f.key, f.value, f.default) for f in read_settings(scope)}

    def _lost(self) -> str:
        back = apply_change(self.dialect, self.done.corrected, self.done.backout, "back-out")
        differing = self._said(back) ^ self._said(self.text)
        return f"{min(differing)}" if differing else ""

    def _silence(self, edits: Sequence[Edit]) -> str:
        """A line after which nothing leaves, although something did before it."""
        could = self._reached(self.text)
        for data, said in self._prefixes(edits):
            can = self._reached(data)
            if could and not can:
                return said
            could = can
        return ""

    def _prefixes(self, edits: Sequence[Edit]) -> Iterator[tuple[bytes, str]]:
        if self.dialect.shape.ATOMIC:
            yield self.done.corrected, "the change"
            return
        for n in range(1, len(edits) + 1):
            data = apply_edits(self.dialect, Text(self.text), edits[:n]).data
            yield data, self.dialect.shape.join(edits[n - 1].words)

    def _foreign(self) -> str:
        # A document may be laid out anew; blanks mean nothing in it.
        before, after = (b"".join(d.split()) for d in (self.text, self.done.corrected))
        for said in FOREIGN[self.base]:
            assert said in BASES[self.base]
            plain = "".join(said.split()).encode()
            if after.count(plain) != before.count(plain):
                return said
        return ""
