"""`ivrel demo --live`: the whole circle on simulated devices: gathered, audited, corrected,
delivered in waves while messages arrive, one that fails and is taken back.
"""

from __future__ import annotations

import argparse
import contextlib
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

from ivrel.cli.telling import Teller
from ivrel.core.vocabulary.errors import InputError
from ivrel.demo.workspace import entries
from ivrel.standin.certificate import CERTIFICATE, KEY
from ivrel.standin.example import new_example, on_loopback

FAILING = "holmsay-gw2"  # the device that does not speak
# Devices that are hard to read: they say messages into the session, show the time in their prompt,
# send a byte at a time.
HARD = {"orrin-sw1": "chat", "kelby-sw1": "clock", "tarsk-sw2": "drip"}
WITHIN = "5s"  # in which a message is expected
EVERY = 4  # seconds between two events of a device
BEGIN = 20.0  # seconds in which the stand-ins must be there


def run(args: argparse.Namespace) -> int:
    """Run the example on stand-ins, and return the exit code."""
    folder = Path(args.folder)
    new_example(folder, replace=args.replace)
    say = Teller()
    corrections = folder / "corrections"
    heard = folder / "heard"
    say(
        f"Skerry Line, a ferry company: {len(entries())} simulated devices on this machine, each "
        "on an address of loopback, with the session of its platform; they speak as they are "
        f"configured. But {FAILING} will not speak, whatever its configuration says; and some are "
        "hard to read: one says messages into the session, one shows the time in its prompt, one "
        "sends a byte at a time."
    )

    def on(command: str, *words: str | Path) -> tuple[str | Path, ...]:
        return command, "-w", folder, *words

    with _standins(folder):
        told = "The keys of the hosts, before anything is said to them:"
        say.call(told, *on("gather", "--learn-keys"))
        say.call("The configurations, from all devices at once:", *on("gather"))
        told = "Every device against the policy; here those of one site:"
        say.call(told, *on("audit", "--site", "tarsk"))
        told = "The corrections, proved, in waves:"
        say.call(told, *on("correct", "--waves", "-o", corrections, "--replace"))
        expect = ("--expect", "--heard", heard, "--within", WITHIN, "--stop-after", "3", "--no-ask")
        with _listener(folder, heard) as listener:
            say.call(
                "They are delivered wave by wave, while `ivrel listen --expect` listens beside; "
                "each is kept only when a message arrives as the policy asks:",
                *on("deliver", corrections, *expect),
            )
            told = f"The trouble of {FAILING} is over:"
            say.call(told, *on("standin", "--trouble", FAILING, "none"))
            told = "The same delivery again: what is there is left alone."
            second = say.call(told, *on("deliver", corrections, *expect))
            say.step("And this is what `ivrel listen --expect` has heard beside all that:")
            print()
            watched = _ended(listener)
        say.call("What is on the devices now, and how that differs:", *on("gather", "--since"))
        last = say.call("And the audit of that:", *on("audit"))
    done = second == 0 and last == 0 and watched == 0
    say.step(
        f"{'Every device is as asked, and was heard so' if done else 'Something went wrong'}. "
        f"'ivrel deliver -w {folder} --record' tells what was sent and answered; "
        f"'ivrel standin -w {folder}' runs the devices again."
    )
    return 0 if done else 1


@contextlib.contextmanager
def _standins(folder: Path) -> Iterator[None]:
    """Have the stand-ins of a workspace run."""
    log = folder / "standin.log"
    words = ["standin", "-w", str(folder), "--every", str(EVERY)]
    for device, fault in {FAILING: "silent", **HARD}.items():
        words += ["--fault", f"{device}={fault}"]
    with log.open("w") as out:
        process = subprocess.Popen([sys.executable, "-m", "ivrel", *words], stdout=out, stderr=out)
    try:
        end = time.monotonic() + BEGIN
        while "are running" not in log.read_text():
            if process.poll() is not None or time.monotonic() > end:
                raise InputError(f"the stand-ins do not run: {log.read_text().strip()[:200]}")
            time.sleep(0.05)
        yield
    finally:
        process.send_signal(signal.SIGTERM)
        with contextlib.suppress(subprocess.TimeoutExpired):
            process.wait(10)


@contextlib.contextmanager
def _listener(folder: Path, heard: Path) -> Iterator[subprocess.Popen[str]]:
    """Have `ivrel listen --expect` run, which keeps what it hears."""
    own = folder / ".ivrel" / "standin"
    changed = [word for e in entries() if e.seeds for word in ("--device", e.device)]
    words = ["listen", "-w", str(folder), "--udp", "5514", "--tcp", "5601", "--tls", "6514"]
    words += ["--certificate", str(own / CERTIFICATE), "--key", str(own / KEY)]
    words += [word for n in (21, 22, 23) for word in ("--on", on_loopback(f"198.51.100.{n}"))]
    words += ["-o", str(heard), "--expect", *changed]
    process = subprocess.Popen(
        [sys.executable, "-m", "ivrel", *words],
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        text=True,
    )
    try:
        end = time.monotonic() + BEGIN
        while not list(heard.glob("heard-*")):
            if process.poll() is not None or time.monotonic() > end:
                raise InputError("nothing can be heard: ports 5514, 5601 and 6514 must be free")
            time.sleep(0.05)
        yield process
    finally:
        if process.poll() is None:
            process.kill()
            process.wait()


def _ended(listener: subprocess.Popen[str]) -> int:
    """Wait until all was heard that is expected, print what the listener tells, and return its
    exit code.
    """
    try:
        said, _ = listener.communicate(timeout=5 * EVERY)
    except subprocess.TimeoutExpired:
        listener.send_signal(signal.SIGINT)
        said, _ = listener.communicate(timeout=10)
    print(said, end="")
    return listener.returncode
