"""Records the captures that the tests read: messages of `logger` and of sockets, over a real
interface with an MTU of 1500, taken by tcpdump.

Run as root: `python tests/captures/record.py`. It makes two network namespaces, and nothing leaves
them.
"""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path

HERE = Path(__file__).parent
SETUP = """
set -e
ip netns add ivrel-a; ip netns add ivrel-b
ip link add va netns ivrel-a type veth peer name vb netns ivrel-b
ip -n ivrel-a addr add 192.0.2.1/24 dev va; ip -n ivrel-b addr add 192.0.2.2/24 dev vb
ip -n ivrel-a addr add 2001:db8::1/64 dev va nodad; ip -n ivrel-b addr add 2001:db8::2/64 dev vb nodad
ip -n ivrel-a link set va up; ip -n ivrel-b link set vb up
"""
# Three long datagrams of each family; four connections of the same ports,
# of which no end was seen.
SENDS = """
import socket, sys, time
what = sys.argv[1]
if what == "fragments":
    for family, to in ((socket.AF_INET, "192.0.2.2"), (socket.AF_INET6, "2001:db8::2")):
        s = socket.socket(family, socket.SOCK_DGRAM)
        for n in range(3):
            s.sendto(b"<134>Nov 23 10:00:00 dev-a su: %d " % n + b"x" * 3000, (to, 514))
elif what == "ports":
    for n in range(4):
        s = socket.socket()
        s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        s.bind(("192.0.2.1", 40000))
        s.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, b"\\x01\\0\\0\\0\\0\\0\\0\\0")
        s.connect(("192.0.2.2", 601))
        for m in range(5):
            s.send(b"<134>Nov 23 10:00:00 dev-a su: %d %d\\n" % (n, m))
            time.sleep(0.02)
        s.close()
        time.sleep(0.1)
"""
RECEIVES = """
import socket, threading
def take(one):
    while one.recv(65536): pass
s = socket.create_server(("192.0.2.2", 601))
while True:
    one, _ = s.accept()
    threading.Thread(target=lambda: take(one), daemon=True).start()
"""


def run(*words: str) -> subprocess.Popen[bytes]:
    return subprocess.Popen(words, stderr=subprocess.DEVNULL)


def main() -> None:
    subprocess.run(["sh", "-c", SETUP], check=True, stderr=subprocess.DEVNULL)
    inside = ("ip", "netns", "exec")
    server = run(*inside, "ivrel-b", sys.executable, "-c", RECEIVES)
    try:
        time.sleep(1)
        for what, interface, words in (
            ("fragments", "vb", "udp or ip[6:2] & 0x3fff != 0 or ip6 proto 44"),
            # Ends are left out: what the capture shows of a connection that was cut off.
            ("ports", "vb", "tcp port 601 and tcp[13] & 5 = 0"),
        ):
            file = HERE / f"{what}.pcap"
            taking = run(
                *inside, "ivrel-b", "tcpdump", "-U", "-i", interface, "-w", str(file), words
            )
            time.sleep(1.5)
            subprocess.run([*inside, "ivrel-a", sys.executable, "-c", SENDS, what], check=True)
            time.sleep(1)
            taking.terminate()
            taking.wait()
            file.chmod(0o644)
    finally:
        server.kill()
        subprocess.run(["sh", "-c", "ip netns del ivrel-a; ip netns del ivrel-b"], check=False)


if __name__ == "__main__":
    main()
