"""What is installed on a device, and what of a configuration depends on it.

Stream drivers and some modules are packages of their own. Without its package, rsyslogd refuses an
action that needs one, and with it the messages leave. The names are those that Debian, and most
others, give them.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from msgspec import Struct

from ivrel.core.text.bundle import Part
from ivrel.core.vocabulary.software import Software, Version, read_versions, version_text

# By the stream driver, or by the module, that is in it.
PACKAGES: Mapping[str, str] = {
    "gtls": "rsyslog-gnutls",
    "ossl": "rsyslog-openssl",
    "mbedtls": "rsyslog-mbedtls",
    "omrelp": "rsyslog-relp",
    "omudpspoof": "rsyslog-udpspoof",
}
# The versions that were held against this description.
CHECKED: tuple[Version, ...] = ((8, 2102), (8, 2302), (8, 2504))


class Change(Struct, frozen=True):
    """Something that versions do differently: `until`, the last version that was seen to do it the
    old way; `since`, the first that was seen to do it the new way.
    """

    until: Version
    since: Version

    def is_made(self, software: Software) -> bool | None:
        """Whether a device does it the new way; None if that is not certain.

        >>> NUMBERS.is_made(Software(versions=((8, 2302, 0),)))
        True
        """
        if not software.versions:
            return None
        if software.versions[0][:2] >= self.since:
            return True
        return False if software.versions[-1][:2] <= self.until else None

    def said(self, old: str, new: str) -> str:
        """Return both ways in words."""
        first = version_text(self.until)
        then = version_text(self.since)
        return f"rsyslogd up to {first} {old}, from {then} on {new} (fleet: versions)"


# Texts that are numbers are compared as numbers, whatever stands to the right of '<'.
NUMBERS = Change((8, 2102), (8, 2302))
# A ruleset whose queue is "direct" has none.
DIRECT = Change((8, 2102), (8, 2302))
# A name that was not known before.
NAMES: Mapping[str, Change] = {
    "re_match_i": Change((8, 2102), (8, 2302)),
    "re_extract_i": Change((8, 2102), (8, 2302)),
    "get_property": Change((8, 2102), (8, 2302)),
    "percentile_observe": Change((8, 2102), (8, 2302)),
    "RSYSLOG_SyslogRFC5424Format": Change((8, 2102), (8, 2302)),
    "streamdriver.cafile": Change((8, 2102), (8, 2302)),
    "streamdriver.keyfile": Change((8, 2102), (8, 2302)),
    "streamdriver.certfile": Change((8, 2102), (8, 2302)),
    "action.errorfile.maxsize": Change((8, 2102), (8, 2302)),
}
# An action may have several targets and ports, with blanks around them.
SEVERAL = Change((8, 2302), (8, 2504))
# rebindInterval makes an action over UDP lose messages.
REBINDING = Change((8, 2302), (8, 2504))

# The list of packages that dpkg keeps (deb-control(5); dpkg-query(1), "Status").
_LIST = "dpkg/status"
_STANZA = re.compile(r"^Package: (rsyslog[\w.+-]*)\nStatus: \w+ \w+ installed\n((?:.+\n)*)", re.M)
_VERSION = re.compile(r"^Version: (?:\d+:)?(\d+(?:\.\d+)*)", re.M)


def installed(files: Sequence[Part]) -> Software:
    """Return what the files of a configuration say of the daemon's packages: the list of dpkg, if
    it is among them.
    """
    for file in files:
        if file.name.endswith(_LIST):
            found = dict(_STANZA.findall(file.text))
            told = _VERSION.search(found.get("rsyslog", ""))
            versions = read_versions(told[1]) if told else ()
            return Software(versions, tuple(sorted(found.keys() - {"rsyslog"})))
    return Software()


def lacking(part: str, software: Software) -> tuple[str, str]:
    """Return why the daemon refuses what needs a stream driver or a module, and what is not known
    of it; both are empty if its package is installed, or if it needs none.

    >>> lacking("gtls", Software(packages=()))
    ('rsyslog-gnutls is not installed', '')
    """
    package = PACKAGES.get(part, "")
    has = software.has(package) if package else True
    if has is None:
        return "", f"{part}: whether {package} is installed is not known (fleet: packages)"
    return ("", "") if has else (f"{package} is not installed", "")


def unchecked(software: Software) -> str:
    """Return why a device's version is none that was checked; '' if it is, or if nobody says."""
    if not software.versions:
        return ""
    lowest = software.versions[0][:2]
    highest = software.versions[-1][:2]
    if CHECKED[0] <= lowest and highest <= CHECKED[-1]:
        return ""
    said = version_text(lowest if lowest < CHECKED[0] else highest)
    return f"rsyslogd {said}: checked are {' to '.join(map(version_text, CHECKED[::2]))}"
