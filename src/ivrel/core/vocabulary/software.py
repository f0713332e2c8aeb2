"""What is installed on a device, as far as somebody says it: versions and packages.

A configuration does not say it, and what a text means may depend on it.
"""

from __future__ import annotations

import re

from msgspec import Struct

Version = tuple[int, ...]

_RANGE = re.compile(r"(\d+(?:\.\d+)*)(?:\s*\.\.\s*(\d+(?:\.\d+)*))?")
_PACKAGE = re.compile(r"[A-Za-z0-9][A-Za-z0-9+._-]*")


class Software(Struct, frozen=True, gc=False):
    """What is known to be installed on a device.

    `versions`: the lowest and the highest version that the daemon may have; empty if nobody says;
    `packages`: those that are installed, of the daemon's own; None if nobody says; `folder`: where
    its main file lies; '' is the usual place.
    """

    versions: tuple[Version, ...] = ()
    packages: tuple[str, ...] | None = None
    folder: str = ""

    def over(self, other: Software) -> Software:
        """Return what this says, and what the other one says of the rest."""
        return Software(
            self.versions or other.versions,
            other.packages if self.packages is None else self.packages,
            self.folder or other.folder,
        )

    def has(self, package: str) -> bool | None:
        """Whether a package is installed; None if nobody says."""
        return None if self.packages is None else package in self.packages

    def may_be(self, version: Version) -> bool:
        """Whether the daemon may be of a version, by its first two numbers.

        >>> Software(read_versions("8.2102..8.2302")).may_be((8, 2504, 0))
        False
        """
        if not self.versions:
            return True
        return self.versions[0][:2] <= version[:2] <= self.versions[-1][:2]


UNSAID = Software()


def read_versions(text: str) -> tuple[Version, Version]:
    """Return the lowest and the highest version that a text names; ValueError if it names none.

    >>> read_versions("8.2302.0")
    ((8, 2302, 0), (8, 2302, 0))
    >>> read_versions("8.2102..8.2504")
    ((8, 2102), (8, 2504))
    """
    found = _RANGE.fullmatch(text.strip())
    if found is None or len(text) > 40:
        raise ValueError(f"'{text[:40]}' is no version; expected one as 8.2302, or 8.2102..8.2504")
    lowest = _version(found[1])
    highest = _version(found[2]) if found[2] else lowest
    if highest < lowest:
        raise ValueError(f"'{text}' ends before it begins; expected the lower version first")
    return lowest, highest


def read_package(text: str) -> str:
    """Return the name of a package; ValueError if it is none."""
    if not _PACKAGE.fullmatch(text) or len(text) > 100:
        raise ValueError(f"'{text[:40]}' is no name of a package, such as rsyslog-gnutls")
    return text


def version_text(version: Version) -> str:
    """Return a version as it is written: '8.2302'."""
    return ".".join(map(str, version))


def _version(text: str) -> Version:
    return tuple(int(number) for number in text.split("."))
