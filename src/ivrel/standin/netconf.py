"""NETCONF of a stand-in (RFC 6241, framed as RFC 6242 has it): a candidate that is validated and
committed, on trial if it is asked for.
"""

from __future__ import annotations

import contextlib
import copy
import re

import asyncssh
from lxml import etree

from ivrel.core.vocabulary.errors import Refused
from ivrel.standin.ssh import Befalling, ender
from ivrel.standin.tree import BASE
from ivrel.standin.unit import Unit

END = b"]]>]]>"
CAPABILITIES = (
    "urn:ietf:params:netconf:base:1.0",
    "urn:ietf:params:netconf:base:1.1",
    "urn:ietf:params:netconf:capability:candidate:1.0",
    "urn:ietf:params:netconf:capability:confirmed-commit:1.1",
    "urn:ietf:params:netconf:capability:validate:1.1",
    "urn:ietf:params:netconf:capability:rollback-on-error:1.0",
)
TRIAL = 600  # seconds of a confirmed commit that names none (RFC 6241 section 8.4.5)
_HELLO = '<hello xmlns="{}"><capabilities>{}</capabilities><session-id>{}</session-id></hello>'


class Server:
    """What a unit answers to one NETCONF session; `locks`: who holds which datastore, shared by the
    sessions of a device.
    """

    def __init__(self, unit: Unit, locks: dict[str, Server]) -> None:
        self._unit = unit
        self._locks = locks
        self._candidate: bytes | None = None
        self._began_trial = False

    def answer(self, rpc: etree._Element) -> str:
        """Return the body of a reply; Refused if it is an error."""
        if not len(rpc):
            raise Refused("an rpc without an operation")
        name = etree.QName(rpc[0]).localname
        operation = getattr(self, f"_{name.replace('-', '_')}", None)
        if operation is None or name not in _OPERATIONS:
            raise Refused(f"operation {name} is not supported")
        body: str = operation(rpc[0])
        return body

    def _get_config(self, said: etree._Element) -> str:
        running = self._unit.running
        text = (self._candidate or running) if _names(said, "source", "candidate") else running
        return self._filtered(said, etree.fromstring(text))

    def _get(self, said: etree._Element) -> str:
        """Return what is in effect: the configuration, and its copy in containers of state."""
        tree = etree.fromstring(self._unit.running)
        for config in list(tree.iter("{*}config")):
            parent = config.getparent()
            if parent is not None and config is not tree:
                state = copy.deepcopy(config)
                state.tag = config.tag.removesuffix("config") + "state"
                parent.insert(parent.index(config) + 1, state)
        return self._filtered(said, tree)

    def _filtered(self, said: etree._Element, tree: etree._Element) -> str:
        tops = [etree.QName(one).localname for one in said.findall(f"{{{BASE}}}filter/*")]
        for child in list(tree):
            if tops and isinstance(child.tag, str) and etree.QName(child).localname not in tops:
                tree.remove(child)
        inner = "".join(str(etree.tostring(child, encoding="unicode")) for child in tree)
        return f"<data>{inner}</data>"

    def _edit_config(self, said: etree._Element) -> str:
        if not _names(said, "target", "candidate"):
            raise Refused("only the candidate is edited")
        if self._locks.get("candidate", self) is not self:
            raise Refused("the candidate is locked by another session")
        config = said.find(f"{{{BASE}}}config")
        if config is None:
            raise Refused("an edit-config without config")
        change = str(etree.tostring(config, encoding="unicode", with_tail=False))
        self._candidate = self._unit.changed(self._candidate or self._unit.running, change)
        return "<ok/>"

    def _validate(self, said: etree._Element) -> str:
        return "<ok/>"  # what the candidate holds was taken by the platform already

    def _commit(self, said: etree._Element) -> str:
        unit = self._unit
        confirmed = said.find(f"{{{BASE}}}confirmed") is not None
        if confirmed:
            seconds = said.findtext(f"{{{BASE}}}confirm-timeout")
            self._began_trial = True
            unit.take(self._candidate or unit.running, float(seconds or TRIAL))
        elif not unit.confirm():
            unit.take(self._candidate or unit.running)
            unit.saved = unit.running
        if not confirmed:
            self._began_trial = False
        self._candidate = None
        return "<ok/>"

    def _cancel_commit(self, said: etree._Element) -> str:
        if not self._unit.withdraw():
            raise Refused("no commit waits to be confirmed")
        return "<ok/>"

    def _discard_changes(self, said: etree._Element) -> str:
        self._candidate = None
        return "<ok/>"

    def _lock(self, said: etree._Element) -> str:
        target = "candidate" if _names(said, "target", "candidate") else "running"
        if target in self._locks:
            raise Refused(f"{target} is locked by another session")
        self._locks[target] = self
        return "<ok/>"

    def _unlock(self, said: etree._Element) -> str:
        target = "candidate" if _names(said, "target", "candidate") else "running"
        if self._locks.pop(target, None) is None:
            raise Refused(f"{target} is not locked")
        return "<ok/>"

    def _close_session(self, said: etree._Element) -> str:
        return "<ok/>"

    def ended(self) -> None:
        """Release what the session held: its locks, and a commit that it did not confirm (RFC 6241
        section 8.4.1).
        """
        for target in [t for t, holder in self._locks.items() if holder is self]:
            del self._locks[target]
        if self._began_trial:
            self._unit.withdraw()


_OPERATIONS = frozenset(
    "get get-config edit-config validate commit cancel-commit discard-changes lock unlock "
    "close-session".split()
)


def _names(said: etree._Element, what: str, store: str) -> bool:
    return said.find(f"{{{BASE}}}{what}/{{{BASE}}}{store}") is not None


async def serve(
    unit: Unit, locks: dict[str, Server], process: asyncssh.SSHServerProcess[bytes]
) -> None:
    """Answer the requests of a session until it ends."""
    server = Server(unit, locks)
    end = ender(process)
    befalls = Befalling(unit, unit.session(end), process)
    try:
        capabilities = "".join(f"<capability>{one}</capability>" for one in CAPABILITIES)
        process.stdout.write(_HELLO.format(BASE, capabilities, id(server)).encode() + END)
        hello = await process.stdin.readuntil(END)
        chunked = b"netconf:base:1.1" in hello
        while True:
            raw = await (_chunks(process.stdin) if chunked else process.stdin.readuntil(END))
            rpc = etree.fromstring(raw.removesuffix(END), etree.XMLParser(resolve_entities=False))
            name = etree.QName(rpc[0]).localname if len(rpc) else ""
            refused = await befalls.before_rpc(name)
            body = _answered(server, rpc) if refused is None else _refusal(refused)
            await befalls.behind()
            number = rpc.get("message-id", "")
            reply = f'<rpc-reply message-id="{number}" xmlns="{BASE}">{body}</rpc-reply>'.encode()
            framed = b"\n#%d\n%s\n##\n" % (len(reply), reply) if chunked else reply + END
            process.stdout.write(framed)
            await process.stdout.drain()
            if name == "close-session":
                break
    except (OSError, EOFError, ValueError, asyncssh.Error, etree.XMLSyntaxError):
        pass  # whoever was there has gone, or speaks something else
    finally:
        server.ended()
        unit.left(end)
        with contextlib.suppress(OSError, asyncssh.Error):
            process.exit(0)


def _answered(server: Server, rpc: etree._Element) -> str:
    try:
        return server.answer(rpc)
    except Refused as problem:
        return _refusal(str(problem))


def _refusal(said: str) -> str:
    if not said:
        return "<ok/>"
    error = etree.Element("rpc-error")
    for name, value in (
        ("error-type", "application"),
        ("error-tag", "operation-failed"),
        ("error-severity", "error"),
        ("error-message", said),
    ):
        etree.SubElement(error, name).text = value
    return str(etree.tostring(error, encoding="unicode"))


async def _chunks(stream: asyncssh.SSHReader[bytes]) -> bytes:
    """Return a message that comes in chunks (RFC 6242 section 4.2)."""
    out: list[bytes] = []
    while True:
        head = await stream.readuntil(re.compile(rb"\n#([0-9]+|#)\n"))
        found = re.search(rb"\n#([0-9]+|#)\n$", head)
        if found is None:
            raise ValueError("no chunk")
        if found[1] == b"#":
            return b"".join(out)
        out.append(await stream.readexactly(int(found[1])))
