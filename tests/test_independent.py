"""Corrections of generated devices by generated policies, proved again by other means."""

from __future__ import annotations

import pytest
from conftest import TODAY, tried
from generated import BASES, device, policies, records, written
from hypothesis import given
from hypothesis import strategies as st
from independent import Checked

from ivrel.core.correcting import correct, untouched
from ivrel.core.judging import Auditor
from ivrel.sources.dialects import Dialects
from ivrel.sources.workspace import Workspace

DIALECTS = Dialects()


@pytest.mark.parametrize("base", sorted(BASES))
@given(data=st.data())
@tried(20)
def test_what_is_proved_holds_by_other_means(base: str, data: st.DataObject) -> None:
    dialect, policy = DIALECTS[base.partition(".")[0]], data.draw(policies())
    text = written(dialect, base, data.draw(records(dialect, base)))
    one = Checked(base, dialect, device(dialect), policy, text)
    # A device that an audit finds as asked has the same correction without being gone through.
    audit = Auditor(policy, TODAY).audit(device(dialect), dialect, text, "x")
    quick = untouched(device(dialect), dialect, text, policy, audit)
    assert quick in (None, one.done) and (audit.good or quick is None)
    said = {p.name for p in one.done.proof if not p.holds}
    # What the proof says does not hold may be more than is found here, and never less.
    found = one.failing()
    assert found.keys() <= said, (found, text.decode(), one.done.change, one.done.backout)


def test_a_device_that_is_as_asked_needs_no_more_than_its_audit(workspace: Workspace) -> None:
    found = 0
    for d in workspace.fleet.devices:
        data, file = workspace.text(d)
        dialect, policy = workspace.dialects[d.platform], workspace.policy
        audit = Auditor(policy, TODAY, workspace.dialects).audit(d, dialect, data, file)
        quick = untouched(d, dialect, data, policy, audit)
        if quick is not None:
            found += 1
            assert quick == correct(d, dialect, data, policy, TODAY, file)
    assert found >= 5
