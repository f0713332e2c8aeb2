"""The sentences: every kind of finding and of obstacle, in words.

This is the only place that has them.

A row is the text of a kind; `{…}` are the values of the finding: `title` (what it is about),
`found`, `wanted`, and those that it names itself. `{at}` is the title with a colon, or nothing;
`{note}` tells that what was found is a platform's default.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

Values = Mapping[str, str]

_READS = {
    "none": "messages bear no stamp",
    "uptime": "stamps count uptime, which reads like a time of day",
}


def _export(v: Values) -> str:
    aimed = f", so nothing leaves for {v['aimed']}" if v.get("aimed") else ""
    return f"export is {v['found']}{v['note']}{aimed}"


def _part_value(v: Values) -> str:
    part = f"{v['part']} " if v.get("part") else ""
    return f"{v['at']}{part}{v['found']}{v['note']}, not {v['wanted']}"


def _departing(v: Values) -> str:
    """Return the part of a selection that is missing, too much, or a gap in it."""
    said = []
    if v.get("missing"):
        said.append(f"misses {v['missing']}" if v.get("some") else "gets nothing at all")
    if v.get("extra"):
        said.append(f"adds {v['extra']}")
    if v.get("hole"):
        said.append(f"has a hole at {v['hole']}")
    if not said:
        said.append(f"gets {v['found']}, not {v['wanted']}")
    of = f" of {v['channel']}" if v.get("channel") else ""
    return f"{v['title']} {', '.join(said)}{of}"


def _stamp_kind(v: Values) -> str:
    return f"{v['at']}{_READS.get(v['found'], 'stamps are ' + v['found'])}{v['note']}"


def _stamp_lacks(v: Values) -> str:
    reads = _READS.get(v["found"], f"stamps are {v['found']}")
    return f"{v['at']}{reads}, without {v['part']}{v['note']}"


def _stamp_part(v: Values) -> str:
    is_in = "is" if v["part"] in ("year", "zone") else "is in"
    return f"{v['at']}the {v['part']} {is_in} {v['found']}{v['note']}, not {v['wanted']}"


def _rules_tell(v: Values) -> str:
    one = v["count"] == "1"
    does = f"that {v['action']}{'s' * one} {'records' if one else 'record'} {v['found']}"
    return f"{_rules(v)} {does}, not {v['wanted']}"


def _rules(v: Values) -> str:
    """Return how many rules, and the first of them by name."""
    noun = "rule" if v["count"] == "1" else "rules"
    more = f" and {v['more']} more" if v.get("more") else ""
    return f"{v['count']} {noun} ({v['names']}{more})"


def _source(v: Values) -> str:
    also = ", and the fleet gives no identity for this device" if v.get("unknown") else ""
    return f"{v['at']}{v['why']}{also}"


def _servers_unset(v: Values) -> str:
    return "nothing sets the clock" + (
        ", and its stamps are a calendar's" if v.get("calendar") else ""
    )


def _cannot_say(v: Values) -> str:
    can = f"; it can say {v['choices']}" if v.get("choices") else ""
    return f"{v['at']}{v['platform']} cannot say {v['wanted']}{can}"


SENTENCES: Mapping[str, str | Callable[[Values], str]] = {
    # of any setting
    "silent": "{found} has no statement for {what}",
    "no-default": "the text says nothing of {slot}, and {found} states no default",
    "no-destination": "no collector that is asked for is set, so there is nothing to judge",
    "value": _part_value,
    "unread": "a line is not understood",
    # collectors
    "missing": "{title} ({wanted}) is missing",
    "endpoint": "{title} has the right address for {collector}, but {wrong}",
    "untellable-transport": "{title} is sent to by {found}, which a policy cannot ask for",
    "endpoint-unsaid": "{found} says nowhere the {what} of {title}, and its dialect has no default",
    "told-of": "{title} is told of, but {found}",
    "together": "{where}; one fault there silences the device",
    "stranger": "{title} is a stranger",
    "not-asked-for": "{title} is {found}, which is not asked for here",
    "twice": "{title} is {found} once more",
    # level, console, file
    "selection": _departing,
    "selection-unsure": "{title} gets {found}: the rest hangs on more than facility and "
    "severity{of}",
    "output": _departing,
    "output-unsure": "what {title} shows is not certain: {found}, where {wanted} is asked",
    "orphan": "{what} {title} feeds '{found}', which is not set",
    # export
    "export": _export,
    # format
    "torn": "{expects}, and {where} one format for all",
    # stamp
    "stamp-kind": _stamp_kind,
    "stamp-lacks": _stamp_lacks,
    "stamp-part": _stamp_part,
    # source
    "identity-unknown": "the fleet gives no identity for this device",
    "no-source": "{found} cannot choose: the nearest interface is the source",
    "rivals": "the fleet gives {found} to {others} as well, so a collector takes them for one",
    "nearest": "{at}not set, so messages leave from whatever interface is nearest",
    "source": _source,
    # trust
    "verify-unsaid": "{at}whether the collector is verified is not said",
    "unverified": "{at}the collector is not verified{note}",
    "other-peer": "{at}expects a certificate of {found}, not of {wanted}",
    "clear": "{at}clear text by {found}",
    "clear-across": "{at}clear text by {found} from {here} to {there}",
    # clock
    "zone": "the zone is {found}{note}, not {wanted}",
    "unfollowed": "the time servers are set, but not followed{note}",
    "clock-unset": _servers_unset,
    "server-missing": "the time server {wanted} is missing",
    "server-stranger": "the time server {found} is not asked for",
    "server-count": "{found} time server{s}, not {wanted}",
    # origin
    "misnamed": "it calls itself {found}, not {wanted}",
    # categories, changes, logins
    "silence": "nothing leaves for any collector that is asked for",
    "no-category": "{found} knows no messages of {title}",
    "gap": "{at}{gap}",
    "unwanted-category": "messages of {what} leave, and are not to",
    # rules
    "doubtful-rule": "{title}: line {line} is not understood: {text}",
    "rules-tell": _rules_tell,
    "rules-unfed": lambda v: f"{_rules(v)} without a feed: what is recorded goes nowhere",
    # filters
    "dropped-text": "messages with '{found}' are dropped",
    "dropped-facility": "messages of {found} are dropped for {title}",
    # resolver
    "resolver-unknown": "{platform} says nothing of resolvers, and {found} is a host name",
    "resolver-lacking": "{found} is a host name, and there is no resolver",
    "resolver-missing": "the resolver {wanted} is missing",
    "resolver-stranger": "the resolver {found} is not asked for",
    # obstacles: the platform
    "cannot-say": _cannot_say,
    "cannot-send": "{title}: {platform} cannot send by {what}",
    "no-name": "{title}: {platform} has no name left for it",
    "full": "{platform} holds {most} destinations at most, and {needed} are needed",
    "no-statement": "{platform} has no statement for {what}",
    "only-read": "{platform} has no statement that is written for it: its entries are only read",
    # obstacles: the policy, the fleet, the configuration
    "no-choice": "{at}the policy does not say what to write; add `write:` to it",
    "no-server-named": "the policy names no time server; ask for `servers`",
    "too-few-servers": "the policy names too few time servers to choose from; name them under "
    "`servers`",
    "no-resolver-named": "the policy names no resolver; ask for `resolver: [ADDRESS]`",
    "no-level-asked": "ask for a `level`, which says what is to leave",
    "clear-collector": "{at}the policy's collector takes clear text only; give it `transport: tls`",
    "tls": "{at}{lack}",
    "one-only": "the policy asks for collectors of one {what} only",
    "rename": "it calls itself {found}, not {wanted}; rename it by hand, or in the fleet",
    "take-out": "take {what} out of the feeds by hand",
    "no-feed": "there is no feed that gives to a collector",
    "own-identity": "the fleet has to give each device an identity of its own",
    "stuck": "{at}{why}",
    "clash": "{asks}; to correct that would break what '{rule}' asks of {setting}: {wanted}",
    "no-way": "no way to correct this was found",
}


def sentence(
    kind: str,
    title: str,
    found: str,
    wanted: str,
    more: tuple[tuple[str, str], ...],
    default: str = "",
) -> str:
    """Return the words for a kind of finding or obstacle with its values."""
    values = {
        **dict(more),
        "title": title,
        "at": f"{title}: " if title else "",
        "found": found or dict(more).get("found", ""),
        "wanted": wanted,
        "note": f", the default of {default}" if default else "",
    }
    row = SENTENCES[kind]
    return row(values) if callable(row) else row.format_map(values)
