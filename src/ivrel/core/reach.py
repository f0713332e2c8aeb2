"""How a device is reached: transport, address, user, and credentials.

Rules of the fleet apply to many devices, `reach:` at a device to that one; a later one overrides an
earlier one. A fleet in CSV has its rules in `reach.yaml`. Passwords are never written here:
`password` names an environment variable or a program, or is `ask`.

Passes: `{via: ssh, user: keeper, key: ~/.ssh/keeper}`
Fails:  `{via: telegraph}` (unknown transport)
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from fnmatch import fnmatchcase
from itertools import product
from typing import Any, Protocol

from msgspec import Struct
from msgspec.structs import asdict
from yaml import MappingNode

from ivrel.core.form import Key, ListOf, MappingField, Node, Report, TextField
from ivrel.core.vocabulary.addresses import address
from ivrel.core.vocabulary.values import HOST, PORT
from ivrel.core.vocabulary.wording import shorten

WAYS = ("ssh", "netconf", "command")
PORTS: Mapping[str, int] = {"ssh": 22, "netconf": 830, "command": 0}  # RFC 4253, RFC 6242
ASK = "ask"
PATIENCE = 20  # seconds without a sign, after which a device is given up
TRIAL = 120  # seconds after which an unconfirmed change takes itself back
FIELDS = ("device", "kind", "site", "platform", "address", "port", "user")
_FIELD = re.compile(r"\{([^{}]*)\}")


class Reach(Struct, frozen=True, omit_defaults=True):
    """How a device is reached; empty fields are not set.

    `address`: an IP address or a host name; `key`: a private key file; `password`: an environment
    variable, or ASK; `password_from`: a command that prints the password; `second_password`: the
    same for the password that permits changes (`rise` of a session); `through`: the names of the
    jump hosts, in order; `host_keys`: a file of trusted keys, in addition to recorded ones;
    `patience`, `trial`: seconds.

    For configurations in files: `files`: their paths; `restart`: the command that activates them;
    `running`: a command that succeeds while the service runs.

    For `via: command`: `fetch` prints the configuration, `state` the device's present state,
    `change` reads a change, `back` its back-out, `keep` saves it.

    `before`, `after`: the user's programs that are called before a change is sent and after it was
    verified.
    """

    via: str = ""
    address: str = ""
    port: int = 0
    user: str = ""
    key: str = ""
    password: str = ""
    password_from: tuple[str, ...] = ()
    second_password: str = ""
    second_password_from: tuple[str, ...] = ()
    through: tuple[str, ...] = ()
    host_keys: str = ""
    patience: int = 0
    trial: int = 0
    files: tuple[str, ...] = ()
    restart: str = ""
    running: str = ""
    fetch: tuple[str, ...] = ()
    state: tuple[str, ...] = ()
    change: tuple[str, ...] = ()
    back: tuple[str, ...] = ()
    keep: tuple[str, ...] = ()
    before: tuple[str, ...] = ()
    after: tuple[str, ...] = ()

    def over(self, other: Reach) -> Reach:
        """Return the combination of both; this one has priority."""
        said = {name: value for name, value in asdict(self).items() if value}
        for name in ("password", "second_password"):
            by = {key: getattr(self, key) for key in (name, f"{name}_from")}
            if any(by.values()):  # one takes the place of the other
                said |= by
        return Reach(**{**asdict(other), **said})


class Reached(Protocol):
    """What a rule needs to know of a device."""

    @property
    def name(self) -> str:
        """Its name."""

    @property
    def kind(self) -> str:
        """What it is."""

    @property
    def site(self) -> str:
        """The site of the device."""

    @property
    def platform(self) -> str:
        """The dialect of its configuration."""

    @property
    def groups(self) -> tuple[str, ...]:
        """Its groups."""

    @property
    def identity(self) -> str | None:
        """The address that it should be known by."""

    @property
    def reach(self) -> Reach | None:
        """How the device is reached, as far as it is set at the device itself."""


class ReachRule(Struct, frozen=True):
    """How some devices are reached; `where`: kinds, sites, groups, platforms and names, or globs of
    them. Without it, the rule is for all.
    """

    reach: Reach
    where: Mapping[str, tuple[str, ...]] = {}

    def holds_for(self, device: Reached) -> bool:
        """Whether the rule is about a device."""
        values = {
            "device": (device.name,),
            "kind": (device.kind,),
            "site": (device.site,),
            "platform": (device.platform,),
            "group": device.groups,
        }
        return all(_has_match(values[selector], words) for selector, words in self.where.items())


def _has_match(values: Iterable[str], globs: Iterable[str]) -> bool:
    return any(fnmatchcase(value, glob) for value, glob in product(values, globs))


def reach_of(rules: Iterable[ReachRule], device: Reached) -> Reach:
    """Return how a device is reached, with the address, the port and the times that go without
    saying; `via` is '' if nothing is said of it.
    """
    out = Reach()
    for rule in rules:
        if rule.holds_for(device):
            out = rule.reach.over(out)
    if device.reach is not None:
        out = device.reach.over(out)
    default = Reach(
        address=device.identity or device.name,
        port=PORTS.get(out.via, 0),
        patience=PATIENCE,
        trial=TRIAL,
    )
    return out.over(default)


def filled(words: Iterable[str], device: Reached, reach: Reach) -> list[str]:
    """Return the words of a command with the fields of a device in their places."""
    values: dict[str, object] = {
        "device": device.name,
        "kind": device.kind,
        "site": device.site,
        "platform": device.platform,
        "address": reach.address,
        "port": reach.port,
        "user": reach.user,
    }
    return [_FIELD.sub(lambda found: str(values[found[1]]), word) for word in words]


def _word(text: str) -> str:
    for name in _FIELD.findall(text):
        if name not in FIELDS:
            known = ", ".join(f"{{{field}}}" for field in FIELDS)
            raise ValueError(f"no field is called '{shorten(name)}'; expected {known}")
    return text


def _host(text: str) -> str:
    try:
        return address(text)
    except ValueError:
        pass
    try:
        return str(HOST.parse(text))
    except ValueError:
        raise ValueError(f"'{shorten(text)}' is neither an IP address nor a host name") from None


def _seconds(text: str) -> int:
    if not re.fullmatch("[0-9]{1,5}", text) or not int(text):
        raise ValueError(f"'{shorten(text)}' is not a number of seconds from 1 to 99999")
    return int(text)


def _password(text: str) -> str:
    # A name of a variable looks like one: a password that somebody wrote here mostly does not.
    if text != ASK and not re.fullmatch(r"[A-Z_][A-Z0-9_]*", text):
        raise ValueError(
            "expected the name of a variable of the environment, in capitals, or 'ask'; "
            "no password stands in a file"
        )
    return text


_TEXT = TextField("text")
_COMMAND = ListOf(TextField("a word of a command", _word), filled=True)
_WORDS = ListOf(_TEXT, one_is_enough=True, filled=True)

_FROM = MappingField(
    "where a password comes from",
    {"from": Key(_COMMAND, "the words of a program that prints it", must=True)},
    lambda at, **said: said["from"],
)


class _Password:
    """A password: where it is, never what it is."""

    _text = TextField("a variable, 'ask' or a program", _password)

    def read(self, node: Node, report: Report) -> str | tuple[str, ...] | None:
        """Return the variable or ASK, or the words of a program."""
        of = _FROM if isinstance(node, MappingNode) else self._text
        found: str | tuple[str, ...] | None = of.read(node, report)
        return found

    def schema(self) -> dict[str, Any]:
        """Return the JSON Schema of both."""
        return {"anyOf": [self._text.schema(), _FROM.schema()]}


def _way(said: Mapping[str, Any]) -> Reach:
    """Return a way of what its keys say."""
    values = dict(said)
    for name in ("password", "second_password"):
        if isinstance(values.get(name), tuple):
            values[f"{name}_from"] = values.pop(name)
    return Reach(**values)


_KEYS = {
    "via": Key(TextField("a way", choices=WAYS), "by which it is reached"),
    "address": Key(TextField("an address or a host name", _host), "where (default: its identity)"),
    "port": Key(TextField("a port", PORT.parse), "the port (default: 22 of ssh, 830 of netconf)"),
    "user": Key(_TEXT, "as whom (default: who calls)"),
    "key": Key(_TEXT, "the file of a private key (default: those of the SSH agent)"),
    "password": Key(
        _Password(),
        "the variable of the environment that holds it, `ask` (it is asked for once), or the words "
        "of a program that prints it: `{from: [keeper, show, '{device}']}`",
    ),
    "second-password": Key(
        _Password(), "the same of the password that allows one to change things (`rise`)"
    ),
    "through": Key(_WORDS, "the names of the hosts under `hosts:` that it is reached through"),
    "host-keys": Key(_TEXT, "a file of host keys that are trusted, besides those learnt"),
    "patience": Key(
        TextField("seconds", _seconds), "seconds without a sign, then it is given up (20)"
    ),
    "trial": Key(
        TextField("seconds", _seconds),
        "seconds after which a change that is not confirmed takes itself back (120)",
    ),
    "files": Key(_WORDS, "of a platform whose configuration is files: these, or globs"),
    "restart": Key(_TEXT, "what is run there when files were replaced"),
    "running": Key(_TEXT, "what ends with 0 there as long as the service runs"),
    "fetch": Key(_COMMAND, "of `command`: a program that prints the configuration"),
    "state": Key(_COMMAND, "of `command`: a program that prints the device's present state"),
    "change": Key(_COMMAND, "of `command`: a program that takes a change on standard input"),
    "back": Key(_COMMAND, "of `command`: one that takes a back-out (default: as `change`)"),
    "keep": Key(_COMMAND, "of `command`: one that makes a change last"),
    "before": Key(
        _COMMAND, "a program that is called before anything is sent: if it fails, nothing is"
    ),
    "after": Key(
        _COMMAND,
        "one that is called when the change reads as proved: if it fails, it is taken back",
    ),
}

REACH = MappingField("a way to a device", _KEYS, lambda at, **said: _way(said))

_OF_HOSTS = ("address", "port", "user", "key", "password", "host-keys", "patience")
HOST_BETWEEN = MappingField(
    "a host that devices are reached through",
    {
        "host": Key(_TEXT, "its name, as `through:` has it", must=True),
        **{name: _KEYS[name] for name in _OF_HOSTS},
    },
    lambda at, host, **said: (at, host, _way({"via": "ssh", **said})),
)
HOSTS = Key(
    ListOf(HOST_BETWEEN, one_is_enough=True),
    "hosts that devices are reached through, by SSH: each with keys and passwords of its own",
)

RULE = MappingField(
    "a way to some devices",
    {
        "where": Key(
            MappingField(
                "a selection",
                {
                    name: Key(_WORDS, f"names or globs of a {name}")
                    for name in ("device", "kind", "site", "group", "platform")
                },
                lambda at, **said: said,
            ),
            "the devices that it is about; all, if left out",
        ),
        **_KEYS,
    },
    lambda at, where=None, **said: (at, ReachRule(_way(said), where or {})),
)

RULES = Key(
    ListOf(RULE, one_is_enough=True),
    "how devices are reached: rules for many; a later one replaces what it names",
)
