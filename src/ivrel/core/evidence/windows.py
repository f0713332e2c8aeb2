"""Windows: the first bytes of very many lines at once, so that lines of the same front are counted
without being looked at one by one.

Each line is seen through two windows: what stands before its time, and what stands from there on.
What may differ between lines of one front is made the same: the digits of a valid time and of its
fraction, and those of a number before it. What stands behind the tag is left out. Lines whose
windows are the same then have the same front as `fronts.Fronts` tells it, if one of them has, which
is for the caller to check. All others are left to be read one by one.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING, Any

from msgspec import Struct

if TYPE_CHECKING:
    import numpy as np
    import numpy.typing as npt

    Bytes = npt.NDArray[np.uint8]
    Numbers = npt.NDArray[Any]
    Flags = npt.NDArray[Any]

BEFORE = 40  # bytes in which the time must begin
BEHIND = 64  # bytes from there on in which a front must end
LINES = 16384  # at a time, so that they stay in the processor's cache
_NUMBER = 9  # digits of a number before a stamp
_SEQUENCE = b'sequenceId="'
_COUNTED = len(_SEQUENCE) + _NUMBER + 3
_SPACES = 6  # of RFC 5424, behind the time: up to the one behind the structured data
_SEED = 2026


class Alike(Struct, frozen=True):
    """Lines that are alike: how many, the numbers of the first and the last of them, and how many
    bytes of them were compared.
    """

    number: int
    first: int
    last: int
    cut: int


class Windows(Struct, frozen=True):
    """What was found in some lines: those that are alike; the numbers of the others; where each
    line begins, and one more.
    """

    alike: list[Alike]
    others: list[int]
    begins: list[int]


def windows(data: bytes, front_of: Callable[[bytes, int], object | None]) -> Windows:
    """Return which of some lines are alike; each has its line end.

    `front_of`: what tells fronts apart, for a line whose front ends in so many bytes; None if it
    has none, and is among the others with all that are like it.
    """
    import numpy as np

    text = np.frombuffer(data, np.uint8)
    begins = np.concatenate((np.zeros(1, np.int64), np.flatnonzero(text == ord("\n")) + 1))
    padded = np.concatenate((text, np.zeros(BEFORE + BEHIND + _COUNTED + 8, np.uint8)))
    alike: dict[object, Alike] = {}
    others: list[int] = []
    for at in range(0, len(begins) - 1, LINES):
        some = begins[at : at + LINES + 1]
        found, left = _block(padded, some[:-1], some[1:] - some[:-1] - 1)
        others += (left + at).tolist()
        for one, members in found:
            front = front_of(data[some[one.first] : some[one.first + 1]], one.cut)
            if front is None:
                others += (members() + at).tolist()
                continue
            new = Alike(one.number, one.first + at, one.last + at, one.cut)
            before = alike.get(front)
            alike[front] = new if before is None else _joined(before, new)
    return Windows(list(alike.values()), sorted(others), begins.tolist())


def _joined(one: Alike, other: Alike) -> Alike:
    first, last = min(one.first, other.first), max(one.last, other.last)
    return Alike(one.number + other.number, first, last, one.cut)


def _block(
    padded: Bytes, begins: Numbers, lengths: Numbers
) -> tuple[list[tuple[Alike, Callable[[], Numbers]]], Numbers]:
    """Return the groups of some lines, each with what tells its lines, and the lines that are in
    none.
    """
    import numpy as np

    seen = np.lib.stride_tricks.sliding_window_view
    head = seen(padded, BEFORE + 8)[begins]
    row = np.arange(len(begins))
    colon = head == ord(":")
    # The first two colons that are three bytes apart are those of the time.
    twice = colon[:, 2 : BEFORE + 2] & colon[:, 5 : BEFORE + 5]
    time = twice.argmax(axis=1)
    good = twice[row, time]
    tail = seen(padded, BEHIND)[begins + time]
    good &= _mask_time(tail)
    pri = _behind_pri(head)
    _mask_number(head, row, pri)
    new = (head[row, pri] == ord("1")) & (head[row, time - 1] == ord("T"))
    cut = np.zeros(len(begins), np.int64)
    cut[~new] = _old_cut(tail[~new])
    counted = np.zeros(len(begins), np.int64)
    if new.any():
        cut[new] = _new_cut(tail[new])
        counted[new] = _counted(seen(padded, _COUNTED)[(begins + time + cut)[new]])
    good &= (cut > 0) & (time + cut + counted <= lengths + 1)
    good &= (counted == 0) | (time < BEFORE - 1)
    known = np.flatnonzero(good)
    wide = np.concatenate((head[known, :BEFORE], tail[known]), axis=1)
    wide[:, :BEFORE] *= np.arange(BEFORE, dtype=np.uint8) < time[known, None].astype(np.uint8)
    wide[:, BEFORE:] *= np.arange(BEHIND, dtype=np.uint8) < cut[known, None].astype(np.uint8)
    # The numbers of messages are not compared, but that there is one.
    wide[:, BEFORE - 1] += (counted[known] > 0).astype(np.uint8)
    whole = time[known] + cut[known] + counted[known]
    groups, group = _grouped(wide)
    found: list[tuple[Alike, Callable[[], Numbers]]] = [
        (
            Alike(number, int(known[first]), int(known[last]), int(whole[first])),
            partial(_members, known, group, n),
        )
        for n, (number, first, last) in enumerate(groups)
    ]
    return found, np.flatnonzero(~good)


def _members(known: Numbers, group: Numbers, which: int) -> Numbers:
    found: Numbers = known[group == which]
    return found


def _mask_time(tail: Bytes) -> Flags:
    """Make valid times and their fractions the same, and return which are valid."""
    import numpy as np

    # Column by column, each of which lies together here.
    sign = np.ascontiguousarray(tail[:, :16].T)
    digit = sign - np.uint8(ord("0"))
    good = (digit[0] < 3) & (digit[1] < 10) & ((digit[0] < 2) | (digit[1] < 4))
    for at in (3, 6):
        good &= (digit[at] < 6) & (digit[at + 1] < 10)
    is_digit = digit < 10
    three = (sign[8] == ord(".")) & is_digit[9] & is_digit[10] & is_digit[11]
    six = three & is_digit[12] & is_digit[13] & is_digit[14]
    six &= (
        (sign[15] == ord("Z"))
        | (sign[15] == ord(" "))
        | (sign[15] == ord("+"))
        | (sign[15] == ord("-"))
    )
    three &= ~is_digit[12] | six
    sign[[0, 1, 3, 4, 6, 7]] = ord("0")
    for which, places in ((three, (9, 10, 11)), (six, (12, 13, 14))):
        for at in places:
            sign[at] = np.where(which, np.uint8(ord("0")), sign[at])
    tail[:, :16] = sign.T
    valid: Flags = good
    return valid


def _behind_pri(head: Bytes) -> Numbers:
    """Return where each line goes on behind its PRI; 0 where it has none."""
    import numpy as np

    out = np.zeros(len(head), np.int64)
    for at in (4, 3, 2):
        out[head[:, at] == ord(">")] = at + 1
    out[head[:, 0] != ord("<")] = 0
    return out


def _mask_number(head: Bytes, row: Numbers, pri: Numbers) -> None:
    """Make numbers before the stamps the same, if a colon and a blank stand behind them."""
    import numpy as np

    zero, blank = np.uint8(ord("0")), head[row, pri + 1] == ord(" ")
    some = np.flatnonzero((head[row, pri] - zero < 10) & ~blank)
    if not len(some):
        return
    begin, length = pri[some], np.zeros(len(some), np.int64)
    going = np.ones(len(some), np.bool_)
    for n in range(_NUMBER):
        going &= head[some, begin + n] - zero < 10
        if not going.any():
            break
        length += going
    stop = begin + length
    numbered = (head[some, stop] == ord(":")) & (head[some, stop + 1] == ord(" "))
    for n in range(int(length[numbered].max(initial=0))):
        which = numbered & (length > n)
        head[some[which], begin[which] + n] = zero


def _old_cut(tail: Bytes) -> Numbers:
    """Return where what counts ends in lines of RFC 3164: behind the first colon with a blank
    behind the time; 0 where there is none.
    """
    import numpy as np

    ended = (tail[:, 9:-1] == ord(":")) & (tail[:, 10:] == ord(" "))
    at = ended.argmax(axis=1)
    return np.where(ended[np.arange(len(tail)), at], at + 11, 0)


def _new_cut(tail: Bytes) -> Numbers:
    """Return where what counts ends in lines of RFC 5424: behind the blank that follows the
    structured data; 0 where there is none.
    """
    import numpy as np

    there = np.cumsum(tail[:, 9:] == ord(" "), axis=1, dtype=np.int8) == _SPACES
    return np.where(there.any(axis=1), there.argmax(axis=1) + 10, 0)


def _counted(behind: Bytes) -> Numbers:
    """Return how long the number of a message is, with what stands around it, where the structured
    data holds that alone (RFC 5424 section 7.3.1); 0 elsewhere.
    """
    import numpy as np

    row = np.arange(len(behind))
    good: Flags = (behind[:, : len(_SEQUENCE)] == np.frombuffer(_SEQUENCE, np.uint8)).all(axis=1)
    stop = np.full(len(behind), len(_SEQUENCE))
    going = good.copy()
    for _ in range(_NUMBER):
        going &= behind[row, stop] - np.uint8(ord("0")) < 10
        stop += going
    good &= (stop > len(_SEQUENCE)) & (behind[row, stop] == ord('"'))
    good &= (behind[row, stop + 1] == ord("]")) & (behind[row, stop + 2] == ord(" "))
    return np.where(good, stop + 3, 0)


def _grouped(wide: Bytes) -> tuple[list[tuple[int, int, int]], Numbers]:
    """Return the groups of rows that are the same (number, first, and last), and in which each row
    is.
    """
    import numpy as np

    if not len(wide):
        return [], np.zeros(0, np.int64)
    words = wide.view(np.uint64)
    dice = np.random.default_rng(_SEED).integers(1, 2**63, words.shape[1], np.uint64) | np.uint64(1)
    hashed = ((words ^ (words >> np.uint64(29))) * dice).sum(axis=1, dtype=np.uint64)
    _, first, group, number = np.unique(
        hashed ^ (hashed >> np.uint64(32)), return_index=True, return_inverse=True,
        return_counts=True,
    )  # fmt: skip
    # Of two rows of one hash that differ, each but the first is a group of its own.
    other = np.flatnonzero((words != words[first[group]]).any(axis=1))
    if len(other):
        group[other] = len(first) + np.arange(len(other))
        first = np.concatenate((first, other))
        number = np.bincount(group, minlength=len(first))
    last = first.copy()
    last[group] = np.arange(len(wide))
    return list(zip(number.tolist(), first.tolist(), last.tolist(), strict=True)), group
