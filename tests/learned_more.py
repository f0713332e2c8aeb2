"""More platforms made up for the learner: documents, lists within a statement, numbers for
severities and facilities, words that some statements leave out.

`SANDERLING`, `WHIMBREL` and `STINT` were written down before the learner could read any of these,
and it was never changed for them.
"""

from __future__ import annotations

import json

from learned import Platform


def _dunlin(name: str, number: int, level: int, more: bool = False) -> str:
    """JSON, with numbers and true and false as such."""
    sinks: list[dict[str, object]] = [
        {
            "id": "first", "host": "198.51.100.21", "port": 6514, "transport": "tls",
            "severity": level, "facility": 19,
        }
    ]  # fmt: skip
    if more:
        sinks.append({"id": "second", "host": "198.51.100.22", "port": 514, "transport": "udp"})
    said = {
        "machine": {"called": name, "locker": {"watchword": f"{number}c0ffee"}},
        "links": [
            {"name": "core0", "address": f"192.0.2.{number}/32"},
            {"name": "up0", "address": f"203.0.113.{number}/30", "mtu": 1500},
        ],
        "eventlog": {
            "enabled": not more,
            "sinks": sinks,
            "source": "core0",
            "sequence": True,
            "timestamp": {"type": "date", "precision": "ms", "zone": True},
            "buffer": {"size": 4096, "level": 7},
        },
    }
    return json.dumps(said, indent=2) + "\n"


DUNLIN = Platform(
    "tree",
    {
        "buoy-1": _dunlin("buoy-1", 151, 6),
        "buoy-2": _dunlin("buoy-2", 152, 4, True),
        "buoy-3": _dunlin("buoy-3", 153, 6),
    },
    {
        "buoy-1": {
            "export": "on", "collectors first": "198.51.100.21 tls 6514",
            "level first": "through informational", "facility first": "local3",
            "source": "core0", "numbering": "on", "stamp kind": "calendar",
            "stamp precision": "milliseconds", "stamp zone": "shown", "memory size": "4096",
            "memory level": "debug",
        },
        "buoy-2": {
            "export": "off", "level first": "through warning",
            "collectors second": "198.51.100.22 udp 514",
        },
    },
)  # fmt: skip


def _knot(name: str, number: int, second: str = "") -> str:
    """XML whose values stand between elements."""
    return f"""<?xml version="1.0"?>
<!-- saved by hand -->
<station>
  <identity><label>{name}</label><secret>{number}deadbeef</secret></identity>
  <ports>
    <port><name>lan0</name><address>192.0.2.{number}/32</address><state>up</state></port>
    <port><name>lan1</name><address>203.0.113.{number}/30</address><state>down</state></port>
  </ports>
  <messages>
    <export>yes</export>
    <target>
      <name>near</name>
      <address>198.51.100.21</address>
      <protocol>tcp</protocol>
      <port>601</port>
      <threshold>notice</threshold>
    </target>{second}
    <facility>local4</facility>
    <stamp><kind>absolute</kind><zone>no</zone></stamp>
  </messages>
</station>
"""


KNOT = Platform(
    "tree",
    {
        "pier-1": _knot("pier-1", 161),
        "pier-2": _knot(
            "pier-2", 162,
            "\n    <target><name>far</name><address>198.51.100.22</address>"
            "<protocol>udp</protocol><port>514</port><threshold>alert</threshold></target>",
        ),
    },
    {
        "pier-1": {
            "export": "on", "collectors near": "198.51.100.21 tcp 601",
            "level near": "through notice", "facility": "local4", "stamp kind": "calendar",
            "stamp zone": "hidden",
        },
        "pier-2": {"collectors far": "198.51.100.22 udp 514", "level far": "through alert"},
    },
)  # fmt: skip


def _curlew(name: str, number: int, targets: str, level: int = 5) -> str:
    """Several collectors behind one word, and numbers for severities and facilities."""
    return f"""# curlew
called {name}
line a0
  inet 192.0.2.{number}/32
line a1
  inet 203.0.113.{number}/30
  secret {number}c0ffee
report
  active yes
  targets {targets}
  severity {level}
  facility 20
  from a0
  memory 8192 severity {level}
"""


CURLEW = Platform(
    "blocks",
    {
        "lamp-1": _curlew("lamp-1", 171, "198.51.100.21:514/udp"),
        "lamp-2": _curlew("lamp-2", 172, "198.51.100.21:514/udp, 198.51.100.22", 6),
        "lamp-3": _curlew("lamp-3", 173, "198.51.100.22:601/tcp,[2001:db8::22]:601/tcp"),
    },
    {
        "lamp-1": {
            "export": "on", "collectors 198.51.100.21": "198.51.100.21 udp 514",
            "level 198.51.100.21": "through notice", "facility": "local4", "source": "a0",
            "memory size": "8192", "memory level": "notice",
        },
        "lamp-2": {
            "level 198.51.100.21": "through informational",
            "level 198.51.100.22": "through informational",
        },
        "lamp-3": {
            "collectors 198.51.100.22": "198.51.100.22 tcp 601",
            "collectors 2001:db8::22": "2001:db8::22 tcp 601",
        },
    },
)  # fmt: skip


def _sanderling(name: str, number: int, level: str, sinks: int = 1) -> str:
    """JSON on few lines, names with those of their modules, strings for everything."""
    collectors = [
        {
            "key": f"c{n}", "inet": f"198.51.100.{20 + n}", "port": str(513 + n), "carry": "udp",
            "least": level,
        }
        for n in range(1, sinks + 1)
    ]  # fmt: skip
    said = {
        "shore-base:device": {"title": name, "vault": {"token": f"{number}deadbeef"}},
        "shore-ports:ports": {
            "port": [
                {"id": "p1", "inet": f"192.0.2.{number}/32", "state": "up"},
                {"id": "p2", "inet": f"203.0.113.{number}/30", "state": "down"},
            ]
        },
        "shore-log:journal": {
            "active": "yes", "facility": "local1", "via": "p1",
            "collector": collectors, "stamps": {"kind": "uptime"}, "format": "rfc5424",
        },
    }  # fmt: skip
    return json.dumps(said)


SANDERLING = Platform(
    "tree",
    {
        "weir-1": _sanderling("weir-1", 181, "crit"),
        "weir-2": _sanderling("weir-2", 182, "info", 2),
        "weir-3": _sanderling("weir-3", 183, "warn"),
    },
    {
        "weir-1": {
            "export": "on", "facility": "local1", "source": "p1", "format": "rfc5424",
            "collectors c1": "198.51.100.21 udp 514", "level c1": "through critical",
            "stamp kind": "uptime",
        },
        "weir-2": {
            "collectors c2": "198.51.100.22 udp 515", "level c2": "through informational",
        },
    },
)  # fmt: skip


def _whimbrel(name: str, number: int, level: int, on: str = "true") -> str:
    """XML with namespaces, and numbers for severities."""
    return f"""<data xmlns="urn:example:frame">
  <net xmlns="urn:example:net">
    <interface>
      <id>wan</id><ip>203.0.113.{number}/30</ip>
    </interface>
    <interface>
      <id>loop</id><ip>192.0.2.{number}/32</ip>
    </interface>
  </net>
  <users xmlns="urn:example:users"><user><id>root</id><hash>{number}c0ffee</hash></user></users>
  <syslog xmlns="urn:example:syslog">
    <enabled>{on}</enabled>
    <server>
      <id>a</id>
      <host>198.51.100.21</host>
      <port>514</port>
      <transport>udp</transport>
      <severity>{level}</severity>
      <facility>17</facility>
    </server>
    <server>
      <id>b</id>
      <host>198.51.100.22</host>
      <port>6514</port>
      <transport>ssl</transport>
      <severity>3</severity>
      <facility>17</facility>
    </server>
    <source>loop</source>
    <rate>250</rate>
  </syslog>
</data>
"""


WHIMBREL = Platform(
    "tree",
    {
        "mole-1": _whimbrel("mole-1", 191, 6),
        "mole-2": _whimbrel("mole-2", 192, 7, "false"),
    },
    {
        "mole-1": {
            "export": "on", "collectors a": "198.51.100.21 udp 514",
            "collectors b": "198.51.100.22 tls 6514", "level a": "through informational",
            "level b": "through error", "facility a": "local1", "source": "loop", "rate": "250",
        },
        "mole-2": {"export": "off", "level a": "through debug"},
    },
)  # fmt: skip


def _stint(name: str, number: int, more: str = "") -> str:
    """Statements that leave words out."""
    return f"""! stint
name {name}
interface g1
  address 192.0.2.{number}/32
interface g2
  address 203.0.113.{number}/30
vault
  word {number}deadbeef
logging
  server 198.51.100.21
{more}  source g1
  buffer 4096 level warning
"""


STINT = Platform(
    "blocks",
    {
        "hulk-1": _stint("hulk-1", 201, "  server 198.51.100.22 transport tcp port 601\n"),
        "hulk-2": _stint(
            "hulk-2", 202, "  server 198.51.100.22 port 5514 severity error\n"
        ),
        "hulk-3": _stint(
            "hulk-3", 203,
            "  server 203.0.113.9 transport udp port 514 severity warning facility local5\n",
        ),
    },
    {
        "hulk-1": {
            "collectors 198.51.100.22": "198.51.100.22 tcp 601", "source": "g1",
            "memory size": "4096", "memory level": "warning",
        },
        "hulk-2": {"level 198.51.100.22": "through error"},
        "hulk-3": {
            "collectors 203.0.113.9": "203.0.113.9 udp 514",
            "level 203.0.113.9": "through warning", "facility 203.0.113.9": "local5",
        },
    },
)  # fmt: skip

MORE = {
    "dunlin": DUNLIN, "knot": KNOT, "curlew": CURLEW,
    "sanderling": SANDERLING, "whimbrel": WHIMBREL, "stint": STINT,
}  # fmt: skip
