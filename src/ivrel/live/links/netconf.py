"""NETCONF (RFC 6241) over SSH (RFC 6242), with what the server says that it can.

With a candidate, a change is edited there, and committed on trial where the server can (RFC 6241
sections 8.3 and 8.4). The session that is lost takes it back by itself. The library
waits for answers, so each call runs in a thread.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
import re
import socket
import time
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any, TypeVar

import asyncssh
import paramiko
from lxml import etree
from ncclient import NCClientError, manager
from ncclient.operations import RPCError
from ncclient.transport import AuthenticationError, SSHError, SSHUnknownHostError

from ivrel.core.delivery.dialog import Exchange
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.vocabulary.errors import Refused, Unreachable
from ivrel.core.vocabulary.wording import plain, shorten
from ivrel.live.access import user
from ivrel.live.links.link import DisplayedState, Link, OutgoingChange, Rehearsal, Target
from ivrel.live.links.ssh import Line, refused, told

T = TypeVar("T")
BASE = "urn:ietf:params:xml:ns:netconf:base:1.0"
CANDIDATE = "candidate"
RUNNING = "running"
STARTUP = "startup"


class Netconf(Link):
    """A session with a NETCONF server."""

    def __init__(self, target: Target) -> None:
        super().__init__(target)
        self._manager: Any = None
        self._locked: list[str] = []
        self._on_trial = False  # whether this session began one
        self._way = Line()
        self._lead: asyncssh.SSHListener | None = None  # that leads through the hosts in between

    async def open(self) -> None:
        reach = self.target.reach
        access = self.target.access
        trusted = access.host_keys(reach)
        key = access.key(reach)
        password = await asyncio.to_thread(access.password, reach, self.target.device)
        at = await self._entrance()
        by_own_keys = not (reach.key or reach.password or reach.password_from)
        options: dict[str, Any] = {
            "host": reach.address,
            "port": reach.port,
            "username": user(reach),
            "password": password,
            "key_filename": str(Path(reach.key).expanduser()) if key is not None else None,
            "allow_agent": by_own_keys,
            "look_for_keys": by_own_keys,
            "timeout": reach.patience,
            "manager_params": {"timeout": reach.patience},
        }
        for name in ("ncclient", "paramiko"):  # what goes wrong is told here, in a line
            logging.getLogger(name).setLevel(logging.CRITICAL + 1)

        def connect() -> Any:
            for n, one in enumerate(trusted, 1):
                public = one.export_public_key().decode().split()[1]
                sock = socket.create_connection(at, reach.patience)
                try:
                    return manager.connect_ssh(sock=sock, hostkey_b64=public, **options)
                except SSHUnknownHostError:
                    raise
                except SSHError:
                    # The host may have no key of this kind, and one of the next.
                    if n == len(trusted):
                        raise
            raise AssertionError("there is a key of every host that is known")

        self._manager = await self._call(connect)
        self.has_trial = self._can("candidate") and self._can("confirmed-commit")

    async def _entrance(self) -> tuple[str, int]:
        """Return the address and port of the server, or those of loopback that lead to it through
        the hosts in between.
        """
        reach = self.target.reach
        tunnel = await self._way.between(self.target)
        if tunnel is None:
            return reach.address, reach.port
        try:
            lead = self._lead = await tunnel.forward_local_port(
                "127.0.0.1", 0, reach.address, reach.port
            )
        except (OSError, asyncssh.Error) as problem:
            self._way.abort()
            raise Unreachable(f"{self.target.where}: {told(problem, reach)}") from None
        return "127.0.0.1", lead.get_port()

    def _can(self, name: str) -> bool:
        """Whether the server has a capability (RFC 6241 section 8), of either version."""
        known = self._manager.server_capabilities
        return any(re.search(rf":capability:{name}:1\.[01]\b", one) for one in known)

    async def fetch(self) -> bytes:
        reply = await self._call(lambda: self._manager.get_config(RUNNING, self._filter()))
        data = _laid_out(reply.data_ele)
        self.hider.know(data)
        return data

    async def display(self) -> DisplayedState | None:
        display = self.target.dialect.display
        if display is None:
            return None
        wanted = self._filter(display.dialect)
        # A part of a model may hold secrets beside the few leaves that are asked for.
        for top in wanted if wanted is not None else ():
            for name in _second_names(display.dialect, etree.QName(top).localname):
                etree.SubElement(top, f"{{{etree.QName(top).namespace}}}{name}")
        reply = await self._call(lambda: self._manager.get(wanted))
        return DisplayedState(_laid_out(reply.data_ele))

    def _filter(self, of: Dialect | None = None) -> etree._Element | None:
        """Return the filter for the parts of the configuration that a dialect knows.

        `of`: that of a display, if not of the configuration.
        """
        dialect = of or self.target.dialect
        spaces: Mapping[str, str] = getattr(dialect.shape, "namespaces", {})
        tops = {p.path[0][0] if p.path else p.items[0] for p in dialect.patterns}
        names = {getattr(top, "word", "") for top in tops}
        found = [
            etree.Element(f"{{{space}}}{name}", nsmap=_plain(space))
            for name, space in spaces.items()
            if name in names
        ]
        if not found:
            return None
        whole = etree.Element(f"{{{BASE}}}filter", type="subtree")
        whole.extend(found)
        return whole

    async def rehearse(self, sent: OutgoingChange) -> Rehearsal | None:
        if not self._can("candidate"):
            return None
        await self._lock(CANDIDATE)
        try:
            await self._edit(sent, CANDIDATE)
            # Read first: one server in use loses what the candidate holds when it validates.
            reply = await self._call(lambda: self._manager.get_config(CANDIDATE, self._filter()))
            if self._can("validate"):
                await self._asked("validate", lambda: self._manager.validate(CANDIDATE))
        finally:
            with contextlib.suppress(Refused, Unreachable):
                await self._asked("discard-changes", lambda: self._manager.discard_changes())
                await self._unlock()
        how = "validated" if self._can("validate") else "taken"
        return Rehearsal(f"{how} in its candidate", _laid_out(reply.data_ele))

    async def _edit(self, sent: OutgoingChange, target: str) -> None:
        """Have a datastore take a change."""
        config = sent.change.strip()
        if not config.startswith("<"):
            said = "the change is no edit-config payload; it was made for a text in JSON"
            raise Refused(f"{said}: gather, and correct what was gathered")
        more = {"error_option": "rollback-on-error"} if self._can("rollback-on-error") else {}
        await self._asked(
            sent.change.rstrip("\n"),
            lambda: self._manager.edit_config(
                config, target=target, default_operation="merge", **more
            ),
        )

    async def send(self, sent: OutgoingChange) -> None:
        target = CANDIDATE if self._can("candidate") else RUNNING
        await self._lock(target)
        self.untouched = False
        self.effective_at = time.monotonic()
        await self._edit(sent, target)
        if target == RUNNING:
            return
        # No <validate>: a commit validates all the same, and takes all of it or nothing (RFC 6241
        # section 8.3.4.1). One server in use loses what the candidate holds when it is asked to.
        self.effective_at = time.monotonic()
        if sent.seconds and self.has_trial:
            seconds = str(sent.seconds)
            self._on_trial = True
            await self._asked(
                f"commit, confirmed within {seconds} s",
                lambda: self._manager.commit(confirmed=True, timeout=seconds),
            )
        else:
            await self._asked("commit", lambda: self._manager.commit())

    async def keep(self) -> None:
        if not self.has_trial:
            return
        # A commit from elsewhere would be another one (RFC 6241 section 8.4.1).
        if not self._on_trial:
            raise Refused("the session that began the trial is gone")
        await self._asked("commit", lambda: self._manager.commit())
        self._on_trial = False

    async def save(self) -> None:
        if self._can("startup") and not self.untouched:
            await self._asked(
                "copy running to startup", lambda: self._manager.copy_config(RUNNING, STARTUP)
            )
        await self._unlock()

    async def drop(self) -> bool:
        on_trial = self._on_trial
        # What is in a candidate that this session did not lock is somebody else's work.
        if CANDIDATE in self._locked:
            with contextlib.suppress(Refused):
                await self._asked("discard-changes", lambda: self._manager.discard_changes())
        # A trial ends with the session that began it (RFC 6241 section 8.4.1).
        if on_trial:
            await self.close()
            await self.open()
        return on_trial

    async def close(self) -> None:
        one = self._manager
        self._manager = None
        self._locked = []
        self._on_trial = False
        if one is not None:
            with contextlib.suppress(Exception):  # whatever it is, the session is over
                await asyncio.to_thread(one.close_session)
        lead = self._lead
        self._lead = None
        if lead is not None:
            lead.close()
        self._way.abort()

    async def _lock(self, target: str) -> None:
        if target not in self._locked:
            await self._asked(f"lock {target}", lambda: self._manager.lock(target))
            self._locked.append(target)

    async def _unlock(self) -> None:
        for target in reversed(self._locked):
            await self._asked(f"unlock {target}", lambda t=target: self._manager.unlock(t))  # type: ignore[misc]
        self._locked = []

    async def _asked(self, what: str, call: Callable[[], T]) -> T:
        """Call the server; Refused if it answers with an error."""
        try:
            reply = await self._call(call)
        except Refused as problem:
            self.exchanges.append(Exchange(what, (str(problem),)))
            raise
        self.exchanges.append(Exchange(what, ("ok",)))
        return reply

    async def _call(self, call: Callable[[], T]) -> T:
        where = self.target.where
        reach = self.target.reach
        try:
            return await asyncio.to_thread(call)
        except RPCError as problem:
            said = shorten(self.hider.hidden(plain(" ".join(str(problem).split()))), 120)
            raise Refused(said) from None
        except AuthenticationError:
            raise Unreachable(f"{where}: {refused(reach)}") from None
        except SSHUnknownHostError:
            said = "the host key differs from the recorded one; nothing was sent"
            raise Unreachable(f"{where}: {said}") from None
        except (NCClientError, paramiko.SSHException, EOFError) as problem:
            said = f"the session ended: {shorten(str(problem), 100) or 'without a word'}"
            raise Unreachable(f"{where}: {said}") from None
        except (OSError, TimeoutError) as problem:
            raise Unreachable(f"{where}: {told(problem, reach)}") from None
        except AttributeError:
            if self._manager is None:
                raise Unreachable(f"{where}: the session is closed") from None
            raise


def _second_names(dialect: Dialect, top: str) -> list[str]:
    """Return the elements below one at the top that a dialect reads; empty if it reads the top
    itself.
    """
    names: dict[str, None] = {}
    for pattern in dialect.patterns:
        names_of = [*pattern.path, pattern.items]
        first = names_of[0]
        if getattr(first[0], "word", "") != top:
            continue
        name = getattr(names_of[1][0], "word", "") if len(names_of) > 1 else ""
        if not name or len(first) > 1:
            return []
        names[name] = None
    return list(names)


def _laid_out(data: etree._Element) -> bytes:
    """Return the data of a reply as a text of its own, one element a line."""
    parser = etree.XMLParser(remove_blank_text=True, resolve_entities=False, huge_tree=True)
    again = etree.fromstring(etree.tostring(data, with_tail=False), parser)
    whole = etree.Element(f"{{{BASE}}}data", nsmap=_plain(BASE))
    whole.extend(list(again))
    etree.indent(whole)
    return str(etree.tostring(whole, encoding="unicode")).encode() + b"\n"


def _plain(namespace: str) -> Any:
    """Return the names of namespaces that this one needs no prefix in."""
    return {None: namespace}
