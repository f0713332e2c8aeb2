"""Claims about days of messages whose truth is known: none is false, and what is wrong is found."""

from __future__ import annotations

from collections import Counter

import pytest
from days import FAULTS, day, outcomes

# What may be over for good: it is not seen, rather than contradicted.
MAY_HAVE_ENDED = {"facility of one job at night"}
WRONG = {fault for fault, one in FAULTS.items() if one.wrong} - MAY_HAVE_ENDED


def judged(seeds: range, devices: int) -> tuple[list[str], Counter[str], Counter[str]]:
    """Return the claims that are false, and how often a fault was there and was found."""
    false = []
    there, found = Counter[str](), Counter[str]()
    for seed in seeds:
        one = day(seed, devices)
        there.update(truth.fault for truth in one.truth.values())
        for said in outcomes(one):
            c = said.claim
            if said.is_false:
                false.append(f"{seed} {said.device} {said.fault}: {c.setting} {c.claim} {c.why}")
            found[said.fault] += c.claim == "contradicted"
    return false, there, found


def test_no_claim_is_false_and_what_is_wrong_is_found() -> None:
    """Of days 3 and 4, the collector's clock is wrong."""
    false, there, found = judged(range(1, 5), 20)
    assert not false
    assert {fault for fault in there if found[fault]} == WRONG & set(there) != set()


@pytest.mark.deep
def test_no_claim_is_false_with_any_fault() -> None:
    false, there, found = judged(range(100, 112), 60)
    assert not false and set(there) == set(FAULTS)
    assert all(found[fault] >= 0.9 * there[fault] for fault in WRONG)
