"""The form of policies: what may be in them, and what it is read as.

The schema for editors is made of it, and every mistake is reported by it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import date
from typing import Protocol

from ivrel.core.form import Key, ListOf, MapOf, MappingField, Node, Raw, Report, TextField, place
from ivrel.core.policy.collector import Collector
from ivrel.core.policy.need import Needs
from ivrel.core.policy.policy import SELECTORS, Site, Waiver
from ivrel.core.vocabulary.addresses import address
from ivrel.core.vocabulary.values import HOST, PORT, TRANSPORTS

FORMATS = ("rfc3164", "rfc5424")


class Askable(Protocol):
    """What a policy needs to know of a setting: what it is called and how it is asked for."""

    @property
    def name(self) -> str:
        """The name of the setting."""

    @property
    def meaning(self) -> str:
        """What is asked, in a line."""

    @property
    def ask(self) -> Callable[[Node, Report, Mapping[str, Collector]], Needs | None]:
        """What reads a requirement."""


Askables = Mapping[str, Askable]


def _day(text: str) -> date:
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise ValueError(f"'{text[:40]}' is not a day; write YYYY-MM-DD") from None


_WORD = TextField("a word")
_WORDS = ListOf(_WORD, one_is_enough=True, filled=True)

COLLECTOR = MappingField(
    "a collector",
    {
        "address": Key(TextField("an IP address", address), "where it listens", must=True),
        "port": Key(TextField("a port", PORT.parse), "the port, 514 if left out"),
        "transport": Key(TextField("a transport", choices=TRANSPORTS), "udp if left out"),
        "format": Key(TextField("a format", choices=FORMATS), "the message format that it expects"),
        "site": Key(TextField("a site"), "where it stands"),
        "path": Key(TextField("a word"), "the way by which it is reached, if others share it"),
        "forwards": Key(
            ListOf(_WORD, one_is_enough=True, filled=True),
            "of a relay: the collectors that it forwards to",
        ),
        "names": Key(
            ListOf(TextField("a host name", HOST.parse), one_is_enough=True),
            "host names that mean it too",
        ),
        "certificate": Key(
            ListOf(TextField("a name"), one_is_enough=True, filled=True),
            "names in its certificate, besides `names`",
        ),
    },
    lambda at, **fields: {"line": place(at)[0], **fields},
)

_SELECTION = {
    "kind": Key(
        ListOf(TextField("a kind"), one_is_enough=True, filled=True), "kinds of device, or globs"
    ),
    **{s: Key(_WORDS, f"names or globs of a {s}") for s in SELECTORS if s != "kind"},
}


def _rule_form(settings: Askables) -> MappingField:
    """Return the form of a rule."""
    return MappingField(
        "a rule",
        {
            "rule": Key(_WORD, "what the rule is called in reports", must=True),
            "where": Key(
                MappingField(
                    "a selection",
                    {
                        **_SELECTION,
                        "not": Key(
                            MappingField("a selection", _SELECTION),
                            "the same of what they must not be",
                        ),
                    },
                ),
                "the devices that the rule is about; all, if left out",
            ),
            "require": Key(
                Raw(
                    {
                        "type": "object",
                        "additionalProperties": False,
                        "properties": {
                            s.name: {"description": s.meaning} for s in settings.values()
                        },
                    }
                ),
                "what is asked, setting by setting",
                must=True,
            ),
        },
        lambda at, **fields: (at, fields),
    )


def _waiver_form(settings: Askables) -> MappingField:
    """Return the form of a waiver."""
    return MappingField(
        "a waiver",
        {
            "device": Key(_WORD, "name or glob of the devices", must=True),
            "setting": Key(
                TextField("a setting", choices=tuple(settings)), "the setting", must=True
            ),
            "until": Key(TextField("a day", _day), "the last day on which it holds", must=True),
            "because": Key(_WORD, "the reason", must=True),
            "who": Key(_WORD, "who granted it"),
        },
        lambda at, **fields: Waiver(line=place(at)[0], **fields),
    )


def policy_form(settings: Askables) -> MappingField:
    """Return the form of a policy, for a table of settings."""
    return MappingField(
        "a policy",
        {
            "policy": Key(_WORD, "the name of the policy"),
            "include": Key(
                ListOf(_WORD, one_is_enough=True, filled=True), "files whose parts come first"
            ),
            "collectors": Key(MapOf(COLLECTOR), "the collectors that there are"),
            "sites": Key(
                MapOf(
                    MappingField(
                        "a site",
                        {
                            "collectors": Key(
                                ListOf(_WORD, one_is_enough=True),
                                "what `site` means as a collector there",
                            ),
                            "zone": Key(_WORD, "the zone that `site` means"),
                        },
                        lambda at, **fields: (at, Site(line=place(at)[0], **fields)),
                    )
                ),
                "what differs from site to site",
            ),
            "rules": Key(
                ListOf(_rule_form(settings), filled=True), "what is asked of whom; later rules win"
            ),
            "waivers": Key(ListOf(_waiver_form(settings)), "exceptions"),
        },
    )
