"""Corrections whose values depend on what most of the fleet has, where the policy leaves a choice.

Few do. So a large fleet is processed once, and the values of each device are counted on the way.
Devices whose correction needs the count are processed a second time.
"""

from __future__ import annotations

import pickle
from collections.abc import Callable, Collection, Iterator, Sequence
from typing import Generic, TypeVar

from msgspec import Struct

from ivrel.core.correcting.fleet_defaults import DefaultsCounter, Usual, Votes, open_settings
from ivrel.core.fleet import Device
from ivrel.core.policy import Policy
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.errors import Undecided, Unreadable
from ivrel.output.spool import Spool
from ivrel.runners import through
from ivrel.runners.job import Job
from ivrel.sources.workspace import WorkspaceFiles
from ivrel.work.correcting_jobs import OfCorrections, Surveying
from ivrel.work.run import RunOptions

R = TypeVar("R")
T = TypeVar("T")


class Drafted(Struct, Generic[R], frozen=True):
    """What comes of a device, None if that depends on the fleet; and what the device has itself."""

    found: R | None
    votes: Votes


class Drafting(Job[Drafted[R]], Generic[R]):
    """A job about corrections while it is not known what most of the fleet has, which is counted on
    the way.
    """

    def __init__(self, job: OfCorrections[R], survey: Surveying) -> None:
        self._job = job
        self._survey = survey
        self.share = job.share
        self.texts = job.texts

    def prepare(self, devices: Sequence[Device]) -> None:
        self._job.prepare(devices)
        self._survey.prepare(devices)

    def one(self, device: Device, data: bytes, file: str) -> Drafted[R]:
        text = Text(data)
        try:
            found = self._job.worked_out(device, text, file)
        except Undecided:
            found = None
        try:
            votes = self._survey.votes(device, text)
        except Unreadable:
            votes = ()
        return Drafted(found, votes)

    def failed(self, device: Device, problem: str) -> Drafted[R]:
        return Drafted(self._job.failed(device, problem), ())


class _Held(Generic[R]):
    """What waits, in its order: in memory as little as may be."""

    TOGETHER = 64

    def __init__(self) -> None:
        self._spool = Spool()
        self._last = list[R | None]()

    def add(self, found: R | None) -> None:
        """Add what comes of one more device, None if it has to come yet."""
        self._last.append(found)
        if len(self._last) == self.TOGETHER:
            self._spool.add(pickle.dumps(self._last))
            self._last = []

    def __iter__(self) -> Iterator[R | None]:
        for packed in self._spool:
            yield from pickle.loads(packed)
        yield from self._last


class Deciding(Generic[R]):
    """One run over devices.

    `make`: returns the job, given what most of the fleet has, or None while that is not known;
    `left`: the settings that a policy leaves a choice for; `doing`: what is done, for the progress.
    """

    SMALL = 200  # so many devices are sooner gone through before than some of them twice

    def __init__(
        self,
        files: WorkspaceFiles,
        options: RunOptions,
        make: Callable[[Usual | None], OfCorrections[R]],
        left: Collection[str],
        *,
        doing: str,
    ) -> None:
        self._files = files
        self._options = options
        self._make = make
        self._left = left
        self._doing = doing

    def through(self, devices: Sequence[Device]) -> Iterator[R]:
        """Yield what comes of each device, in their order."""
        if not self._left:
            yield from self._run(self._make({}), devices)
            return
        of_fleet = len(devices) == len(self._files.fleet.devices)
        if of_fleet and len(devices) <= self.SMALL:
            yield from self._run(self._make(self._surveyed().usual()), devices)
            return
        job = self._make(None)
        survey = self._survey(self._left if of_fleet else ())
        tally = DefaultsCounter()
        held = _Held[R]()
        late = list[Device]()
        for device, drafted in zip(devices, self._run(Drafting(job, survey), devices), strict=True):
            tally.add(drafted.votes)
            if drafted.found is None:
                late.append(device)
            elif not late:
                yield drafted.found
            # What comes behind one that has to wait waits with it.
            if late:
                held.add(drafted.found)
        if not late:
            return
        usual = (tally if of_fleet else self._surveyed()).usual()
        anew = self._run(self._make(usual), late)
        for found in held:
            yield next(anew) if found is None else found

    def _surveyed(self) -> DefaultsCounter:
        """Return the count of values over all devices of the fleet."""
        tally = DefaultsCounter()
        for votes in through(self._survey(self._left), self._files.fleet.devices):
            tally.add(votes)
        return tally

    def _survey(self, settings: Collection[str]) -> Surveying:
        return Surveying(self._files, self._options.today, sorted(settings))

    def _run(self, job: Job[T], devices: Sequence[Device]) -> Iterator[T]:
        options = self._options
        found = through(job, devices, options.scheduler, send=options.send)
        return options.reported(found, len(devices), self._doing)


def left_open(policies: Sequence[Policy], names: Collection[str]) -> frozenset[str]:
    """Return the settings that a policy leaves a choice for; `names`: those that are looked at, if
    not all.
    """
    left = frozenset().union(*map(open_settings, policies))
    return left.intersection(names) if names else left
