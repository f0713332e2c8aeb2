"""The collectors of a policy, and the relays on the way to them."""

from __future__ import annotations

from msgspec import Struct


class Collector(Struct, frozen=True):
    """A collector of the policy; messages are expected at this address, port and transport."""

    name: str
    address: str
    port: int = 514
    transport: str = "udp"
    format: str | None = None
    site: str | None = None
    path: str | None = None
    names: tuple[str, ...] = ()
    certificate: tuple[str, ...] = ()
    forwards: tuple[str, ...] = ()
    reaches: frozenset[str] = frozenset()
    line: int = 0

    @property
    def endpoint(self) -> tuple[str, int, str]:
        """Address, port and transport, unique for each collector."""
        return self.address, self.port, self.transport

    @property
    def certified(self) -> tuple[str, ...]:
        """The names that its certificate may bear, the one to ask for first."""
        return (*self.certificate, *self.names)

    def is_at(self, host: object) -> bool:
        """Whether a host is this collector, by its address or by one of its names."""
        return host == self.address or host in self.names
