"""What is worked out once in a correction: texts are read once, and answers are those found anew."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import Any

import pytest
from conftest import TODAY, tried
from generated import BASES, device, policies, records, values, written
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from ivrel.core import Device, correct, read_fleet, read_records
from ivrel.core.correcting.answers import StateAnswers
from ivrel.core.correcting.corrector import Corrector, worked_out
from ivrel.core.correcting.properties import left_for
from ivrel.core.correcting.steps import steps_between
from ivrel.core.correcting.trial import Trial
from ivrel.core.judging import DeviceResult, audit_text, read_policy
from ivrel.core.judging.judge import scope_of
from ivrel.core.policy import effective
from ivrel.core.reading import reader
from ivrel.core.reading.matcher import Matcher
from ivrel.core.settings import SETTINGS
from ivrel.core.settings.sentences import SENTENCES
from ivrel.core.text.text import Text
from ivrel.core.text.words import Words
from ivrel.core.vocabulary.errors import Refused
from ivrel.demo.workspace import configurations, fleet_text, policy_text
from ivrel.sources.dialects import Dialects

DIALECTS = Dialects()
POLICY = read_policy(policy_text(), "policy.yaml")
DEVICES = [
    d
    for d in read_fleet(fleet_text(), "fleet.yaml").devices
    if set(configurations()[d.name]) == {""}
]


@pytest.mark.parametrize("one", DEVICES, ids=lambda d: d.name)
def test_a_correction_reads_each_text_once(one: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    read: Counter[bytes] = Counter()
    plain = reader.read

    def counted(matcher: Matcher, text: Text, heads: tuple[Words, ...]) -> Any:
        # The audit before it reads what is asked about, part by part.
        if heads == matcher.heads.eager and (text.whole or not matcher.shape.WHOLE):
            read[text.data] += 1
        return plain(matcher, text, heads)

    monkeypatch.setattr(reader, "read", counted)
    data = configurations()[one.name][""].encode()
    done = correct(one, DIALECTS[one.platform], data, POLICY, TODAY, "x")
    assert set(read.values()) == {1} or not done.changes
    # As it is, as it should be, and backed out: more only where a trial cannot work on statements.
    if one.platform not in ("rsyslog", "marl"):
        assert len(read) <= 3


@pytest.mark.parametrize("base", sorted(BASES))
@given(data=st.data())
@tried(30)
def test_answers_are_those_that_would_be_found_anew(base: str, data: st.DataObject) -> None:
    """Several states of a configuration, each like the one before: rows changed, added, taken away, another text."""
    dialect = DIALECTS[base.partition(".")[0]]
    policy, one = data.draw(policies()), device(dialect)
    asked = effective(policy, one)
    first, other = (written(dialect, base, data.draw(records(dialect, base))) for _ in range(2))

    def fresh(state: Any) -> StateAnswers:
        return StateAnswers(scope_of(one, state, policy, asked))

    states = [
        read_records(dialect, first),
        data.draw(records(dialect, base)),
        read_records(dialect, other),
    ]
    for table in ("destination", "pick", "give"):
        for key in list(states[0].rows(table))[:1]:
            states.append(states[0].without(table, key))
    known = fresh(states[0])
    for state in data.draw(st.permutations(states)):
        known = known.on(state)
        anew = fresh(state)
        for requirement in asked.values():
            assert told(known.findings(requirement)) == told(anew.findings(requirement)), (
                requirement.setting
            )
        for name in SETTINGS:
            assert [f.value for f in known.facts(name)] == [f.value for f in anew.facts(name)], name
        for right in (False, True):
            assert left_for(known, right=right) == left_for(anew, right=right)


@pytest.mark.deep
@pytest.mark.parametrize("base", sorted(BASES))
@given(data=st.data())
@tried(20)
def test_what_is_known_of_other_devices_is_what_would_be_found(
    base: str, data: st.DataObject
) -> None:
    """Corrections of one run, one after the other, are those of runs with a single device."""
    dialect, policy = DIALECTS[base.partition(".")[0]], data.draw(policies())
    corrector, kinds = Corrector(policy, TODAY), ("router", "firewall")
    for n in range(4):
        one = replace(device(dialect), name=f"x{n}", kind=kinds[n // 2 % 2])
        text = written(dialect, base, data.draw(records(dialect, base)))
        begun = Corrector(policy, TODAY).start(one, dialect, text, f"x{n}")
        assert begun.case.result(begun.state) == _without_lines(begun.before)
        alone = worked_out(begun)
        after = audit_text(one, dialect, alone.corrected, policy, TODAY, f"x{n}")
        assert _without_lines(alone.after) == _without_lines(after)
        assert corrector.correct(one, dialect, text, f"x{n}") == alone
        # As it is once the change is in, it may be like one that was judged before.
        corrector.correct(one, dialect, alone.corrected, f"x{n}")


def _without_lines(result: DeviceResult) -> DeviceResult:
    return replace(result, verdicts=tuple(replace(v, where=()) for v in result.verdicts))


@pytest.mark.deep
def test_corrections_of_one_run_are_those_of_many() -> None:
    corrector, texts = Corrector(POLICY, TODAY), configurations()
    known = {d.name: (d, DIALECTS[d.platform], texts[d.name][""].encode()) for d in DEVICES}
    alone = {name: correct(*one, POLICY, TODAY, "x") for name, one in known.items()}
    for name in (*known, *reversed(known)):
        assert corrector.correct(*known[name], "x") == alone[name], name


BY_KIND = """rules:
  - {rule: routers, where: {kind: router}, require: {collectors: [a]}}
  - {rule: firewalls, where: {kind: firewall}, require: {collectors: [b]}}
  - {rule: all, require: {level: {from: warning, to: notice}}}
"""
BOTH = """events
    export on
    send 198.51.100.21 udp 514 through notice
    send 198.51.100.22 udp 514 through debug
"""


@pytest.mark.parametrize(
    ("rules", "texts"),
    [
        # Whether a resolver is needed hangs on more than what it is said to be.
        (
            "rules: [{rule: r, require: {resolver: where-needed}}]",
            [f"events\n    send {at} udp 514 through debug\n" for at in ("192.0.2.1", "x.example")],
        ),
        # The same is asked of the level, of other collectors.
        (BY_KIND, [BOTH, BOTH]),
    ],
)
def test_what_is_known_holds_only_where_all_is_the_same(rules: str, texts: list[str]) -> None:
    collectors = "a: {address: 198.51.100.21}, b: {address: 198.51.100.22}"
    policy = read_policy(f"policy: p\ncollectors: {{{collectors}}}\n{rules}", "policy.yaml")
    quern = DIALECTS["quern"]
    devices = [Device(kind, kind, "s", "quern") for kind in ("router", "firewall")]
    pairs = list(zip(devices, texts, strict=True))
    for some in (pairs, pairs[::-1]):
        corrector = Corrector(policy, TODAY)
        for one, text in some:
            known = one, quern, text.encode()
            assert corrector.correct(*known, "x") == correct(*known, policy, TODAY, "x")


def told(findings: Sequence[Any]) -> set[tuple[str, str, str]]:
    return {(f.kind, f.about, f.why) for f in findings}


def test_every_sentence_has_its_values() -> None:
    """Sentences name only values that a finding has, or such as are told apart by their kind."""
    known = {"title", "at", "found", "wanted", "note"}
    for kind, row in SENTENCES.items():
        if isinstance(row, str):
            names = {part.partition("}")[0] for part in row.split("{")[1:]}
            assert row.format_map(dict.fromkeys(names | known, "x")), kind


OF_RULES = read_policy(
    "policy: p\ncollectors: {a: {address: 198.51.100.21}}\n"
    "rules: [{rule: r, require: {rules: {stop: [open, both]}}}]\n",
    "policy.yaml",
)


@pytest.mark.deep
@pytest.mark.parametrize("base", sorted(b for b in BASES if not b.startswith("rsyslog")))
@given(data=st.data())
@tried(15)
def test_a_trial_says_what_the_text_says(base: str, data: st.DataObject) -> None:
    """Without each line, and after each, and judged row by row: as if the text were read."""
    dialect, policy = DIALECTS[base.partition(".")[0]], data.draw(policies())
    policy = data.draw(st.sampled_from([policy, OF_RULES]))
    said, wanted = (with_gates(data, data.draw(records(dialect, base))) for _ in range(2))
    text = written(dialect, base, said)
    begun = Corrector(policy, TODAY).start(device(dialect), dialect, text, "x")
    case, before = begun.case, begun.state.records
    try:
        trial = Trial(case, before, [s.edit for s in steps_between(before, wanted)])
    except Refused:
        return
    end = begun.state.on(trial.after).on(trial.end)
    for edit, found in trial.without_each():
        try:
            rest = [one for one in trial.fine if one is not edit]
            anew = case.read(case.apply(before.text, rest))
        except Refused:
            assert found is None
            continue
        assert found is not None
        assert said_by(found) == said_by(anew), edit
        without = end.on(found)
        for requirement in case.asked.values():
            there, here = (amiss(begun.state, state, requirement) for state in (trial.after, anew))
            assert without.has_more_amiss_than(end, requirement) == (not here <= there)
    steps = list(trial.after_each())
    for n, (_, found) in enumerate(steps, 1):
        assert said_by(found) == said_by(case.read(case.apply(before.text, trial.fine[:n])))


def amiss(known: StateAnswers, state: Any, asked: Any) -> set[object]:
    """What is amiss in a state; of what is judged row by row, in each row alone."""

    def found(some: Any) -> frozenset[object]:
        return frozenset(StateAnswers(known.plain.on(some)).amiss(asked))

    table = SETTINGS[asked.setting].by_row
    if not table or not state.rows(table):
        return set(found(state))
    by_row = {key: found(state.only(table, [key])) for key in state.rows(table)}
    assert bool(found(state)) == any(by_row.values())
    return {(key, one) for key, some in by_row.items() for one in some}


def with_gates(data: st.DataObject, state: Any) -> Any:
    """The same, with traffic rules that record something or nothing."""
    dialect = state.dialect
    for n in range(3 if dialect.has("gate.tell") else 0):
        tell = data.draw(values(dialect, "gate.tell"))
        for slot, value in (("gate.action", "stop"), ("gate.tell", tell)):
            state = state.having("gate", (f"2{n}",), slot, value)
    return state


def said_by(state: Any) -> Any:
    """What the rows of a state say, wherever and in whatever order."""
    return {
        table: {
            key: {slot: (s.value, s.default) for slot, s in row.items()}
            for key, row in state.rows(table).items()
        }
        for table in ("", *state.dialect.keys)
    }
