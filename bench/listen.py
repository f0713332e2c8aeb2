"""What `ivrel listen` takes: datagrams at a rate, streams at once, and what a kill loses.

`python bench/listen.py` sends 60,000 datagrams a second for ten seconds, to a loop that only
receives and to `listen`, then messages on 200 streams at once, and kills it at 30 random moments.
Every message has to be recorded, or counted as dropped.
"""

from __future__ import annotations

import argparse
import json
import random
import re
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

IVREL = str(Path(sys.executable).parent / "ivrel")
SAID = b"<166>Nov 23 10:00:00 holmsay-gw1 link: port 7 up, 1000 Mbit/s, message %d"


def begun(folder: Path, *words: str) -> tuple[subprocess.Popen[str], int]:
    """Begin to listen; return the process and its port."""
    call = [
        IVREL,
        "listen",
        *words,
        "--on",
        "127.0.0.1",
        "-o",
        str(folder),
        "--rotate-size",
        "1000",
    ]
    listener = subprocess.Popen(call, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    assert listener.stderr is not None
    found = re.search(r"(?:udp|tcp) (\d+)", listener.stderr.readline())
    assert found is not None
    return listener, int(found[1])


def ended(listener: subprocess.Popen[str]) -> tuple[int, int]:
    """End it as Ctrl-C does; return the messages that it counted, and those dropped."""
    listener.send_signal(signal.SIGINT)
    told = "".join(listener.communicate())
    received = re.search(r"([\d,]+) messages?", told)
    dropped = re.search(r"([\d,]+) dropped", told)
    return (
        int(received[1].replace(",", "")) if received else 0,
        int(dropped[1].replace(",", "")) if dropped else 0,
    )


def recorded(folder: Path) -> list[int]:
    """Return the numbers of the messages that were recorded."""
    out = []
    for path in sorted(folder.glob("heard-*")):
        read = ["gzip", "-dc", str(path)] if path.suffix == ".gz" else ["cat", str(path)]
        lines = subprocess.run(read, capture_output=True, check=True).stdout.splitlines()
        out += [int(json.loads(line)["text"].rpartition(" ")[2]) for line in lines]
    return out


PLAIN = """
import select, socket, sys
found = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
found.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 8 * 1024 * 1024)
found.bind(("127.0.0.1", 0))
print(found.getsockname()[1], flush=True)
number = 0
while select.select([found, sys.stdin], [], [], 60)[0] != [sys.stdin]:
    found.recv(65536)
    number += 1
print(number)
"""


def sent_at(rate: int, seconds: int, port: int) -> tuple[int, float]:
    """Send datagrams at a rate; return how many, and how long it took."""
    sent = 0
    start = time.monotonic()
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as out:
        out.connect(("127.0.0.1", port))
        while (now := time.monotonic() - start) < seconds:
            for _ in range(max(0, int(now * rate) - sent)):
                out.send(SAID % sent)
                sent += 1
            time.sleep(0.001)
    return sent, time.monotonic() - start


def plain(rate: int, seconds: int) -> None:
    """Tell how many datagrams a loop takes that only receives."""
    loop = subprocess.Popen(
        [sys.executable, "-c", PLAIN], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    )
    assert loop.stdout is not None
    sent, took = sent_at(rate, seconds, int(loop.stdout.readline()))
    time.sleep(0.5)
    received = int(loop.communicate()[0])
    print(f"{sent:,} datagrams in {took:.1f} s, {sent / took:,.0f} a second")
    print(f"  a loop that only receives takes {received:,}")


def datagrams(folder: Path, rate: int, seconds: int) -> None:
    listener, port = begun(folder, "--udp", "0")
    sent, _ = sent_at(rate, seconds, port)
    pages = Path(f"/proc/{listener.pid}/statm").read_text().split()[1]
    received, dropped = ended(listener)
    kept = len(recorded(folder))
    print(f"  listen takes {received:,}, records {kept:,}, {dropped:,} dropped by the system")
    print(f"  {'every one is accounted for' if kept == received == sent - dropped else 'WRONG'}")
    print(f"  {int(pages) * 4 // 1024} MiB of memory")


def streams(folder: Path, number: int, each: int) -> None:
    listener, port = begun(folder, "--tcp", "0")

    def send(begin: int) -> None:
        with socket.create_connection(("127.0.0.1", port)) as out:
            out.sendall(b"".join((SAID % (begin + n)) + b"\n" for n in range(each)))

    start = time.monotonic()
    senders = [threading.Thread(target=send, args=(n * each,)) for n in range(number)]
    for one in senders:
        one.start()
    for one in senders:
        one.join()
    while listener.poll() is None and len(recorded(folder)) < number * each:
        if time.monotonic() - start > 60:
            break
        time.sleep(0.5)
    took = time.monotonic() - start
    ended(listener)
    found = recorded(folder)
    whole = sorted(found) == list(range(number * each))
    print(f"{number * each:,} messages on {number} streams in {took:.1f} s")
    print(f"  {'every one is recorded, once' if whole else f'WRONG: {len(found):,} recorded'}")


def kills(folder: Path, number: int) -> None:
    dice, wrong, worst = random.Random(1), 0, 0.0
    for n in range(number):
        listener, port = begun(folder / str(n), "--udp", "0")
        end, sent = time.monotonic() + 0.3 + dice.random() * 2.0, list[float]()
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as out:
            out.connect(("127.0.0.1", port))
            while time.monotonic() < end:
                out.send(SAID % len(sent))
                sent.append(time.monotonic())
                time.sleep(0.0005)
        listener.kill()
        killed = time.monotonic()
        listener.communicate()
        kept = recorded(folder / str(n))
        lost = [killed - at for m, at in enumerate(sent) if m >= len(kept)]
        worst = max([worst, *lost])
        wrong += kept != list(range(len(kept)))
    print(
        f"{number} kills: what was lost was at most {worst:.2f} s old; {wrong} recordings damaged"
    )


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--rate", type=int, default=60_000, help="datagrams a second")
    parser.add_argument("--seconds", type=int, default=10)
    parser.add_argument("--streams", type=int, default=200)
    parser.add_argument("--each", type=int, default=2000, help="messages on each stream")
    parser.add_argument("--kills", type=int, default=30)
    args = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        plain(args.rate, args.seconds)
        datagrams(Path(name) / "datagrams", args.rate, args.seconds)
        streams(Path(name) / "streams", args.streams, args.each)
        kills(Path(name) / "kills", args.kills)


if __name__ == "__main__":
    main()
