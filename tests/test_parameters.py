"""The table of parameters of rsyslog's actions, held against the real daemon value by value."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from rsyslog_cases import RECORDED, selections
from rsyslogd import observe_calmly
from test_rsyslog import needs_rsyslogd

from ivrel.core.shapes.rsyslog.flow.parameters import _BY_TYPE, _EVERY, refused
from ivrel.core.shapes.rsyslog.syntax.statements import Param

VALUES = ("x", "1", "-1", "0", "on", "1 k", "99999999999")
# What these values mean beyond being taken: an address or a name that is not there, an action that
# runs now and then only, a stream that nobody here understands.
ELSEWHERE = frozenset(
    "target port protocol template address device networknamespace config.enabled "
    "action.execonlyeverynthtime action.execonlywhenpreviousissuspended compression.mode".split()
)
PARAMETERS = [name for name in (*_EVERY, *_BY_TYPE["omfwd"]) if name not in ELSEWHERE]


def tries() -> Iterator[tuple[str, Param]]:
    for name in PARAMETERS:
        for value in VALUES:
            yield name, Param(value, 1)
        yield name, Param("", 1, array=("a",))


def text(name: str, param: Param) -> str:
    said = '["a"]' if param.array else f'"{param.value}"'
    return f'*.* action(type="omfwd" target="198.51.100.21" port="514" {name}={said})\n'


@pytest.mark.deep
@needs_rsyslogd
def test_the_daemon_refuses_what_the_table_refuses() -> None:
    every = list(tries())
    expected = [not refused("omfwd", {name: param}, RECORDED)[0] for name, param in every]
    orders = [{"files": {"rsyslog.conf": text(*one)}, "enter": None} for one in every]
    found = observe_calmly(orders, lambda n, seen: bool(selections(seen)) == expected[n])
    seen = [(one, s) for one, s in zip(zip(every, expected, strict=True), found, strict=True) if s]
    assert len(seen) > len(every) // 2
    wrong = [(name, p.value, p.array) for ((name, p), takes), s in seen if bool(s.sends) != takes]
    assert not wrong


def test_each_parameter_has_a_value_that_is_refused() -> None:
    assert len(PARAMETERS) > 40
    for name in PARAMETERS:
        outcomes = {
            bool(refused("omfwd", {name: param}, RECORDED)[0])
            for one, param in tries()
            if one == name
        }
        assert True in outcomes, name
