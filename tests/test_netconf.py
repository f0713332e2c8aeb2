"""Corrections for the open model, sent to a real NETCONF server: candidate, commit, read back.

The server is Debian's netconfd with the modules of its own package; of ietf-syslog it gets the
stand-in of the same tree in `modules/`.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Self

import pytest
from conftest import TODAY

from ivrel.core import correct
from ivrel.core.correcting import Correction
from ivrel.core.judging import Auditor
from ivrel.core.reading import read_records
from ivrel.demo.workspace import configurations
from ivrel.sources.workspace import WorkspaceFiles

SERVER = shutil.which("netconfd", path="/usr/sbin:/usr/bin:/usr/local/sbin")
pytestmark = pytest.mark.skipif(
    not SERVER and not os.environ.get("IVREL_SKIP_NOTHING"), reason="needs netconfd"
)
MODULES = ("iana-if-type", "ietf-interfaces", "ietf-ip", "ietf-system", "ietf-syslog")
BASE = "urn:ietf:params:xml:ns:netconf:base:1.0"
END = b"]]>]]>"  # of the first messages (RFC 6242 section 4.3)
DEVICE = "kelby-gw2"


class Session:
    """A session with the server, through its program for the SSH subsystem."""

    def __init__(self, socket: Path) -> None:
        program = str(Path(SERVER or "").with_name("netconf-subsystem"))
        env = {**os.environ, "SSH_CONNECTION": "127.0.0.1 50000 127.0.0.1 830", "USER": "root"}
        pipe = subprocess.PIPE
        call = [program, f"--ncxserver-sockname=830@{socket}"]
        self._process = subprocess.Popen(call, stdin=pipe, stdout=pipe, env=env)
        self._number = 0

    def __enter__(self) -> Self:
        hello = self._until(END).decode()
        assert "base:1.1" in hello and "capability:candidate:1.0" in hello
        # `remove` is of version 1.1 (RFC 6241 section 7.2), and so is its framing.
        capability = "<capability>urn:ietf:params:netconf:base:1.1</capability>"
        self._write(f'<hello xmlns="{BASE}"><capabilities>{capability}</capabilities></hello>', END)
        return self

    def __exit__(self, *_: object) -> None:
        self._process.kill()
        self._process.wait()

    def _write(self, text: str, end: bytes, begin: bytes = b"") -> None:
        assert self._process.stdin
        self._process.stdin.write(begin + text.encode() + end)
        self._process.stdin.flush()

    def _send(self, text: str) -> None:
        self._write(text, b"\n##\n", b"\n#%d\n" % len(text.encode()))

    def _until(self, end: bytes) -> bytes:
        assert self._process.stdout
        out = b""
        while not out.endswith(end):
            one = self._process.stdout.read(1)
            assert one, f"the server has hung up: {self._process.wait(5)}"
            out += one
        return out.removesuffix(end)

    def _read(self) -> str:
        """Return a message that comes in chunks (RFC 6242 section 4.2)."""
        assert self._process.stdout
        out = b""
        while True:
            assert self._until(b"\n#") == b""
            size = self._until(b"\n")
            if size == b"#":
                return out.decode()
            out += self._process.stdout.read(int(size))

    def call(self, body: str) -> str:
        """Send one request and return the reply, which must be no error."""
        self._number += 1
        self._send(f'<rpc message-id="{self._number}" xmlns="{BASE}">{body}</rpc>')
        reply = self._read()
        assert "rpc-error" not in reply, re.findall(r"<error-(?:path|message).*", reply)
        return reply

    def edit(self, config: str, operation: str = "merge") -> bytes:
        """Change the candidate, commit it, and return what the device then says."""
        target = "<target><candidate/></target>"
        how = f"<default-operation>{operation}</default-operation>"
        assert "<ok/>" in self.call(f"<edit-config>{target}{how}{config}</edit-config>")
        assert "<ok/>" in self.call("<commit/>")
        reply = self.call("<get-config><source><running/></source></get-config>")
        data = re.search(r"<data>.*</data>", reply, re.S)
        assert data
        return data[0].replace("<data>", f'<data xmlns="{BASE}">', 1).encode() + b"\n"


@pytest.fixture
def session(tmp_path: Path) -> Iterator[Session]:
    short = Path(tempfile.mkdtemp(prefix="nc"))  # names of sockets have a limit
    modules, socket, config = tmp_path / "modules", short / "socket", tmp_path / "netconfd.conf"
    modules.mkdir()
    shutil.copy(Path(__file__).parent / "modules" / "ietf-syslog.yang", modules)
    # From a file: on the command line, the server misreads some paths.
    said = [f'modpath "{modules}:/usr/share/yuma/modules"', *(f"module {m}" for m in MODULES)]
    said += ["target candidate", "no-startup", f'superuser root\n  ncxserver-sockname "{socket}"']
    config.write_text("netconfd {\n  " + "\n  ".join(said) + "\n}\n")
    call = [str(SERVER), f"--config={config}"]
    # Two servers at a time must not share what they keep in the home of their user.
    env = {**os.environ, "HOME": str(tmp_path)}
    with (tmp_path / "out").open("wb") as out:
        server = subprocess.Popen(call, stdout=out, stderr=out, env=env, cwd=tmp_path)
    try:
        for _ in range(100):
            if socket.exists() or server.poll() is not None:
                break
            time.sleep(0.05)
        with Session(socket) as one:
            yield one
    finally:
        server.kill()
        server.wait()
        shutil.rmtree(short)


# What is wrong with the device: parts of its configuration, and what stands there instead.
PORT, SOURCE = "<port>5514</port>", "<source-interface>lo0</source-interface>"
FAULTS = {
    "as it is": (),
    "the interface of another": ((SOURCE, "<source-interface>e3</source-interface>"),),
    "nothing is sent by it": ((SOURCE, ""), (PORT, "<port>514</port>")),
    "another facility": ((SOURCE, f"{SOURCE}<facility-override>local6</facility-override>"),),
    "too quiet": (("<severity>info</severity>", "<severity>error</severity>"),),
    "too noisy": (("<severity>info</severity>", "<severity>debug</severity>"),),
}


@pytest.mark.parametrize("name", FAULTS)
def test_a_real_server_takes_a_correction_and_its_back_out(
    name: str, session: Session, workspace: WorkspaceFiles
) -> None:
    device = next(d for d in workspace.fleet.devices if d.name == DEVICE)
    dialect, policy = workspace.dialects[device.platform], workspace.policy
    text = configurations()[DEVICE][""]
    for old, new in FAULTS[name]:
        assert old in text
        text = text.replace(old, new)
    body = text[text.index(">", text.index("<data")) + 1 : text.rindex("</data>")]
    stands = session.edit(f"<config>{body}</config>")

    def verdicts(data: bytes) -> dict[str, tuple[str, str]]:
        found = Auditor(policy, TODAY).audit(device, dialect, data, "x").verdicts
        return {v.setting: (v.verdict, v.found) for v in found}

    # What the server makes of a text says the same as the text.
    assert verdicts(stands) == verdicts(text.encode())
    found: Correction = correct(device, dialect, stands, policy, TODAY, "x")
    assert found.changes and found.proved and not found.remains
    after = session.edit(found.change)
    assert {verdict for verdict, _ in verdicts(after).values()} == {"meets"}
    rows, proved = (read_records(dialect, data) for data in (after, found.corrected))
    tables = ("", "destination", "pick", "server")
    assert all(rows.rows(t).keys() == proved.rows(t).keys() for t in tables)
    assert session.edit(found.change) == after  # twice does no harm
    assert verdicts(session.edit(found.backout)) == verdicts(stands)
    assert session.edit(found.backout).split() == stands.split()
