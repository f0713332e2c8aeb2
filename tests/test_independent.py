"""Corrections of generated devices by generated policies, proved again by other means."""

from __future__ import annotations

import pytest
from conftest import tried
from generated import BASES, device, policies, records, written
from hypothesis import given
from hypothesis import strategies as st
from independent import Checked

from ivrel.sources.dialects import Dialects

DIALECTS = Dialects()


@pytest.mark.parametrize("base", sorted(BASES))
@given(data=st.data())
@tried(20)
def test_what_is_proved_holds_by_other_means(base: str, data: st.DataObject) -> None:
    dialect, policy = DIALECTS[base.partition(".")[0]], data.draw(policies())
    text = written(dialect, base, data.draw(records(dialect, base)))
    one = Checked(base, dialect, device(dialect), policy, text)
    said = {p.name for p in one.done.proof if not p.holds}
    # What the proof says does not hold may be more than is found here, and never less.
    found = one.failing()
    assert found.keys() <= said, (found, text.decode(), one.done.change, one.done.backout)
