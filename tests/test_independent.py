"""Corrections of generated devices by generated policies, proved again by other means."""

from __future__ import annotations

import pytest
from conftest import TODAY, tried
from generated import BASES, device, policies, records, written
from hypothesis import given
from hypothesis import strategies as st
from independent import Checked

from ivrel.core.correcting import Corrector, correct
from ivrel.sources.dialects import Dialects
from ivrel.sources.workspace import WorkspaceFiles

DIALECTS = Dialects()


@pytest.mark.parametrize("base", sorted(BASES))
@given(data=st.data())
@tried(20)
def test_what_is_proved_holds_by_other_means(base: str, data: st.DataObject) -> None:
    dialect, policy = DIALECTS[base.partition(".")[0]], data.draw(policies())
    text = written(dialect, base, data.draw(records(dialect, base)))
    one = Checked(base, dialect, device(dialect), policy, text)
    # A device that an audit finds as asked has the same correction without being gone through.
    assert correct(device(dialect), dialect, text, policy, TODAY, "x") == one.done
    said = {p.name for p in one.done.proof if not p.holds}
    # What the proof says does not hold may be more than is found here, and never less.
    found = one.failing()
    assert found.keys() <= said, (found, text.decode(), one.done.change, one.done.backout)


def test_a_device_that_is_as_asked_needs_no_more_than_its_audit(
    workspace: WorkspaceFiles, monkeypatch: pytest.MonkeyPatch
) -> None:
    corrector = Corrector(workspace.policy, TODAY)

    class GoneThrough(Exception):
        pass

    def start(*_: object) -> None:
        raise GoneThrough

    monkeypatch.setattr(Corrector, "_start", start)
    found = 0
    for d in workspace.fleet.devices:
        data, file = workspace.text(d)
        try:
            corrector.correct(d, workspace.dialects[d.platform], data, file)
        except GoneThrough:
            continue
        found += 1
    assert found >= 5
