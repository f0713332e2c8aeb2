"""Generated devices, texts and policies, for properties that must hold over all of them."""

from __future__ import annotations

from hypothesis import strategies as st

from ivrel.core.correcting.changes import apply_edits
from ivrel.core.correcting.steps import steps_between
from ivrel.core.dialects import Dialect
from ivrel.core.dialects.slots import SLOTS, table_of
from ivrel.core.fleet import Device
from ivrel.core.judging.asking import read_policy
from ivrel.core.policy import Policy
from ivrel.core.reading.records import Records, read_records
from ivrel.core.text.bundle import pack
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.severity import FACILITIES, SEVERITIES
from ivrel.core.vocabulary.sourced import SourcedValue
from ivrel.core.vocabulary.values import Value

IDENTITY = "192.0.2.9"
ADDRESSES = ("198.51.100.21", "198.51.100.22", "203.0.113.77", "2001:db8::5")
BASES = {
    "quern": "unit x1\nlink loop1\n    inet 192.0.2.9/32\nlink loop9\n    about free\n"
    "link up0\n    inet 203.0.113.1/30\n    state down\nevents\ngate g\n    10 pass tcp\nroute 2001:db8::/32\n",
    "skarn": "unit.label = x1\nport.loop1.inet = 192.0.2.9/32\nport.loop9.about = free\n"
    "port.up0.inet = 203.0.113.1/30\nport.up0.state = down\ngate.1.act = pass\n",
    "hollin": 'unit "x1" {\n    port loop1 { inet 192.0.2.9/32; }\n    port loop9 { about free; }\n'
    "    port up0 {\n        inet 203.0.113.1/30;\n        state down;\n    }\n    record {\n    }\n"
    "    gates { gate 10 { action pass; record open; } }\n}\n",
    "marl": "[unit]\nlabel = x1\n\n[port.loop1]\ninet = 192.0.2.9/32\n\n[port.loop9]\nabout = free\n\n"
    "[port.up0]\ninet = 203.0.113.1/30\nstate = down\n\n[gate.1]\nact = pass\n",
    "osier": '<osier>\n  <ports>\n    <port id="loop1" inet="192.0.2.9/32"/>\n    <port id="loop9"/>\n'
    '    <port id="up0" inet="203.0.113.1/30" state="down"/>\n  </ports>\n  <sinks/>\n  <feeds/>\n'
    '  <gates><gate id="g1" act="pass"/></gates>\n</osier>\n',
    "ietf-syslog": '{\n  "ietf-interfaces:interfaces": {"interface": [\n    {"name": "loop1", "ietf-ip:ipv4": '
    '{"address": [{"ip": "192.0.2.9", "prefix-length": 32}]}},\n    {"name": "loop9"},\n    {"name": "up0", '
    '"enabled": false, "ietf-ip:ipv4": {"address": [{"ip": "203.0.113.1"}]}}]},\n  "x:a": {"b": "c"}\n}\n',
    "ietf-syslog.xml": '<data xmlns="urn:ietf:params:xml:ns:netconf:base:1.0">\n'
    '  <interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces">\n    <interface><name>loop1</name>'
    '<ipv4 xmlns="urn:ietf:params:xml:ns:yang:ietf-ip"><address><ip>192.0.2.9</ip></address></ipv4></interface>\n'
    "    <interface><name>up0</name><enabled>false</enabled></interface>\n  </interfaces>\n  <acls/>\n</data>\n",
    "openconfig": '{"openconfig-interfaces:interfaces": {"interface": [{"name": "loop1", "subinterfaces": '
    '{"subinterface": [{"index": 0, "ipv4": {"addresses": {"address": [{"ip": "192.0.2.9"}]}}}]}}]},\n'
    '"x:acls": {"acl": [{"name": "g"}]}}\n',
    "openconfig.xml": '<config>\n  <interfaces xmlns="http://openconfig.net/yang/interfaces">\n    <interface>'
    "<name>loop1</name><subinterfaces><subinterface><index>0</index><ipv4><addresses><address><ip>192.0.2.9</ip>"
    "</address></addresses></ipv4></subinterface></subinterfaces></interface>\n  </interfaces>\n</config>\n",
    "rsyslog": 'module(load="imuxsock")\nglobal(defaultNetstreamDriverCAFile="/etc/ssl/ca.pem")\n\n*.info;mail.none -/var/log/messages\nmail.* -/var/log/mail\n& stop\n'
    "*.emerg :omusrmsg:*\n",
    "rsyslog.folder": pack(
        {
            "rsyslog.conf": b"$DefaultNetstreamDriverCAFile /etc/ssl/ca.pem # ours\n$IncludeConfig /etc/rsyslog.d/*.conf\n*.* -/var/log/all\n",
            "rsyslog.d/50-old.conf": b"*.err @203.0.113.77:514\n& -/var/log/err\n"
            b'if $syslogseverity < 5 then {\n  action(type="omfwd" target="198.51.100.22"\n'
            b'    port="601" protocol="tcp" queue.type="linkedList")\n} else @[2001:db8::5]\n',
        }
    ).decode(),
}
FORMS = (
    ("rfc3164", "seconds", "hidden"),
    ("rfc3164", "microseconds", "shown"),
    ("rfc5424", "microseconds", "shown"),
)
WORDS = {
    "destination.selection": (
        "all:through-warning",
        "all:none;kern:alert,error",
        "all:through-debug;audit:none",
    ),
    "source.interface": ("loop1", "loop9", "up0", "gone0"),
    "source.address": (IDENTITY, "203.0.113.1", "203.0.113.9"),
    "destination.address": ADDRESSES,
    "destination.port": (514, 601, 5514),
    "destination.delivery-queue": (0,),
    "server.address": ("198.51.100.5", "198.51.100.6"),
    "resolver.address": ("198.51.100.53",),
    "mute.text": ("flap", "link flap"),
    **dict.fromkeys(("memory.size", "file.size", "delivery.queue", "rate"), (16, 4096, 65536)),
    "pick.destination": ("a", "b", "c", "gone"),
    "pick.feed": ("f1", "f2", "f3"),
}


def fields_of(dialect: Dialect, table: str) -> tuple[str, ...]:
    """The slots of a table that this platform's statements can carry."""
    return tuple(
        dict.fromkeys(
            s
            for p in dialect.patterns
            for s in p.slots
            if table_of(s) == table and s not in dialect.only_read
        )
    )


def device(dialect: Dialect) -> Device:
    return Device("x1", "router", "main", dialect.name, ("edge",), IDENTITY)


def values(dialect: Dialect, slot: str) -> st.SearchStrategy[Value]:
    """The values of a slot that a platform can say."""
    field = slot.rpartition(".")[2]
    plain = f"source.{field.removeprefix('source-')}" if field.startswith("source-") else slot
    choices = dialect.channels if field == "category" else dialect.choices(slot)
    # What is left to the platform alone cannot be said.
    choices = tuple(c for c in choices if c != "relp")  # is read, but never written
    choices = tuple(
        c
        for c in choices
        if field == "category" or any(p.can_write(slot, c) for p in dialect.patterns)
    )
    return st.sampled_from(choices or WORDS.get(plain) or WORDS.get(f"pick.{field}", ("x",)))


@st.composite
def records(draw: st.DrawFn, dialect: Dialect, base: str) -> Records:
    """What a device of this platform might say: any settings that it can express, within its
    limits.
    """
    out = read_records(dialect, BASES[base].encode())
    for slot in sorted(dialect.slots):
        if (
            not table_of(slot)
            and not SLOTS[slot].idle
            and slot not in dialect.only_read
            and draw(st.booleans())
        ):
            out = out.having("", (), slot, draw(values(dialect, slot)))
    names = dialect.choices("destination.name") or tuple("abcd")
    most = min(dialect.limits.get("destination", 4), 4)
    for n in range(draw(st.integers(0, most))):
        said = {s: draw(values(dialect, s)) for s in fields_of(dialect, "destination")}
        said["destination.name"] = names[n]
        if dialect.name == "rsyslog":
            # Of the parts of a template's form, not all go together; nor does an address with TCP.
            form, precision, shown = draw(st.sampled_from(FORMS))
            said |= {"destination.format": form, "destination.stamp-precision": precision}
            said |= {f"destination.stamp-{part}": shown for part in ("year", "zone")}
            # With TLS, a collector that is verified has a name in its certificate.
            said["destination.verify"] = "on" if draw(st.booleans()) else "off"
            given = {s: SourcedValue(v) for s, v in said.items()}
            said = {s: v for s, v in said.items() if out.takes_effect(s, given)}
            if tuple(said[slot] for slot in dialect.keys["destination"]) in out.rows("destination"):
                continue
            if said.get("destination.verify") != "on":
                said.pop("destination.peer", None)
        out = row(out, dialect, "destination", said, draw)
    for table in ("server", "resolver", "mute"):
        for n in range(draw(st.integers(0, 2)) if table in dialect.keys else 0):
            said = {s: draw(values(dialect, s)) for s in fields_of(dialect, table)}
            if f"{table}.id" in said:
                said[f"{table}.id"] = str(n + 1)
            out = row(out, dialect, table, said, draw)
    for table in ("pick", "feed", "take", "give"):
        fields = fields_of(dialect, table)
        for n in range(draw(st.integers(0, 12)) if fields else 0):
            said = {s: draw(values(dialect, s)) for s in fields}
            if table == "pick" and "pick.id" not in said:
                # Where picks stand inside of their destination, there is none without one.
                refs = [str(key[0]) for key in out.rows("destination")]
                if not refs:
                    continue
                said["pick.destination"] = draw(st.sampled_from(refs))
            out = row(out, dialect, table, {**said, "pick.id": str(n + 1)}, draw)
    return out


def row(
    records: Records, dialect: Dialect, table: str, said: dict[str, Value], draw: st.DrawFn
) -> Records:
    keys = dialect.keys[table]
    key = tuple(said[slot] for slot in keys)
    for slot in fields_of(dialect, table):
        # The first statement of a row must be there; of the rest, any may be left to the platform.
        anchor = next(p for p in dialect.patterns if p.table == table)
        named = (
            "destination.stamp",
            "destination.format",
            "destination.verify",
            "destination.peer",
        )
        together = dialect.name == "rsyslog" and slot.startswith(named)
        if slot in said and (
            slot in keys or slot in anchor.slots or together or draw(st.booleans())
        ):
            records = records.having(table, key, slot, said[slot])
    return records


def written(dialect: Dialect, base: str, wanted: Records) -> bytes:
    """A text that says what the records say."""
    text = Text(BASES[base].encode())
    edits = [step.edit for step in steps_between(read_records(dialect, text), wanted)]
    return apply_edits(dialect, text, edits).data


@st.composite
def policies(draw: st.DrawFn) -> Policy:
    """Policies of all forms of requirement."""
    ends = sorted(draw(st.lists(st.integers(0, 7), min_size=2, max_size=2)))
    least, most = (SEVERITIES[n] for n in ends)
    write = draw(st.sampled_from(["", f", write: {SEVERITIES[draw(st.integers(*ends))]}"]))
    facilities = draw(st.lists(st.sampled_from(FACILITIES), min_size=1, max_size=3, unique=True))
    rules = {
        "export": "on",
        "collectors": draw(
            st.sampled_from(["{exactly: [a, b]}", "{includes: [b]}", "{exactly: [b]}", "[a]"])
        ),
        "level": draw(
            st.sampled_from(
                [f"{{from: {least}, to: {most}{write}}}", f"{{at-least: {least}}}", most]
            )
        ),
        "facility": draw(
            st.sampled_from([f"[{', '.join(facilities)}]", "{never: [kern], write: local3}"])
        ),
        "source": draw(st.sampled_from(["identity", "loop1", "[identity, loop1]"])),
        "stamp": draw(
            st.sampled_from(
                ["{kind: calendar, zone: shown}", "{kind: [none, calendar]}", "{kind: none}"]
            )
        ),
    }
    rules |= {
        "format": draw(st.sampled_from(["expected", "rfc3164", "[rfc5424, rfc3164]"])),
        "trust": draw(st.sampled_from(["{verify: on}", "{clear: nowhere}"])),
        "clock": draw(
            st.sampled_from(
                [
                    "{zone: UTC}",
                    "{servers: {exactly: [198.51.100.5]}}",
                    "{count: {at-least: 1}, zone: x}",
                ]
            )
        ),
        "origin": draw(st.sampled_from(["name", "[address, none]"])),
        "numbering": "on",
        "categories": draw(st.sampled_from(["[threat]", "[system, change, login, traffic]"])),
        "filters": "none",
        "changes": "on",
        "logins": "on",
        "rate": draw(st.sampled_from(["{at-least: 100}", "none"])),
        "delivery": draw(
            st.sampled_from(["{mode: immediate}", "{queue: {at-least: 300}}", "batch"])
        ),
        "resolver": draw(
            st.sampled_from(["where-needed", "[198.51.100.53]", "{never: [198.51.100.53]}"])
        ),
        "console": draw(st.sampled_from(["none", "{at-most: error}"])),
        "sessions": "{at-most: warning}",
        "memory": draw(
            st.sampled_from(["{level: {at-least: notice}, size: {between: [100, 9000]}}", "debug"])
        ),
        "file": draw(st.sampled_from(["{size: {at-most: 5000}}", "{level: error}"])),
        "debug-stamp": draw(
            st.sampled_from(["calendar", "{kind: calendar, precision: {at-least: milliseconds}}"])
        ),
    }
    asked = draw(st.lists(st.sampled_from(sorted(rules)), min_size=1, max_size=9, unique=True))
    require = "".join(f"      {name}: {rules[name]}\n" for name in asked)
    return read_policy(
        "policy: p\ncollectors:\n  a: {address: 198.51.100.21, format: rfc5424}\n"
        "  b: {address: 198.51.100.22, port: 601, transport: tcp}\n"
        f"rules:\n  - rule: r\n    require:\n{require}",
        "policy.yaml",
    )
