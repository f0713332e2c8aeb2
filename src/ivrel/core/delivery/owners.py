"""Owners: whose a configuration is, by what it calls itself and by the addresses that it has.

Two crossed addresses in a fleet must neither file one device's configuration under the name of
another, nor bring a change to the wrong device.
"""

from __future__ import annotations

from collections.abc import Iterable

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.fleet import Device
from ivrel.core.reading.records import Records, read_records
from ivrel.core.reading.tables import values_of
from ivrel.core.vocabulary.errors import Unreadable
from ivrel.core.vocabulary.wording import plain, shorten


class Owners:
    """Tells configurations that are not of the device that they were fetched from."""

    def __init__(self, devices: Iterable[Device]) -> None:
        self._names: dict[str, str] = {}  # of devices, by what a configuration may call them
        self._identities: dict[str, str] = {}
        for device in devices:
            for name in names_of(device):
                self._names.setdefault(name, device.name)
            if device.identity and not device.rivals:
                self._identities[device.identity] = device.name

    def against(self, device: Device, dialect: Dialect, data: bytes) -> str:
        """Return the evidence that a configuration is of another device; '' if there is none.

        A configuration that cannot be read shows nothing.
        """
        try:
            records = read_records(dialect, data)
        except Unreadable:
            return ""
        said = records.get("unit.name")
        if not said.default and isinstance(said.value, str):
            called = said.value.casefold()
            if not {called, called.partition(".")[0]} & names_of(device):
                other = self._names.get(called) or self._names.get(called.partition(".")[0])
                is_of = f", as the fleet calls {other}" if other else ""
                return f"its configuration names '{shorten(plain(said.value))}'{is_of}"
        other = self._other_with_identity(device, records)
        if other:
            return f"it has the identity of {other}, and not its own {device.identity}"
        return ""

    def _other_with_identity(self, device: Device, records: Records) -> str:
        """Return the device whose identity an interface has, if none has this device's own."""
        if not device.identity or not records.dialect.has("interface.address"):
            return ""
        rows = records.rows("interface").values()
        values = (value for row in rows for value in values_of(row, "interface.address"))
        addresses = {str(value).partition("/")[0] for value in values}
        if device.identity in addresses:
            return ""
        found = (self._identities[one] for one in addresses if one in self._identities)
        return min((name for name in found if name != device.name), default="")


def names_of(device: Device) -> frozenset[str]:
    """Return the names that a configuration may use for a device, in small letters."""
    return frozenset(name.casefold() for name in (device.name, *device.names))
