"""Texts of rsyslog that a dice throws."""

from __future__ import annotations

from random import Random

COLLECTORS = ("198.51.100.21", "198.51.100.22")


def to(address: str, more: str = "") -> str:
    """An action that forwards."""
    return f'action(type="omfwd" target="{address}" port="514"{more})'


def generated(seed: int) -> str:
    """A configuration of some rules, each of any kind."""
    dice = Random(seed)
    facilities = ("kern", "mail", "auth", "cron", "local0", "local7", "*", "*", "*", "user,daemon")
    words = (
        "emerg",
        "crit",
        "err",
        "warning",
        "notice",
        "info",
        "debug",
        "*",
        "none",
        "=err",
        "!=err",
        "!warning",
        "=info",
    )
    terms = ("$syslogseverity {} {}", "$syslogfacility {} {}", "$pri {} {}")

    def selector() -> str:
        return ";".join(
            f"{dice.choice(facilities)}.{dice.choice(words)}" for _ in range(dice.randint(1, 4))
        )

    def condition(deep: int) -> str:
        if deep == 0 or dice.random() < 0.3:
            if dice.random() < 0.3:
                return f'prifilt("{selector()}")'
            return dice.choice(terms).format(
                dice.choice(("==", "!=", "<", ">", "<=", ">=")), dice.randint(0, 23)
            )
        left, right = condition(deep - 1), condition(deep - 1)
        joined = f"{left} {dice.choice(('and', 'or'))} {right}"
        return dice.choice((joined, f"({joined})", f"not ({joined})"))

    rules = []
    for _ in range(dice.randint(2, 6)):
        where = dice.choice(COLLECTORS)
        act = dice.choice((to(where), to(where), "stop", f"@{where}:514"))
        if dice.random() < 0.5:
            rules.append(f"{selector()} {act}")
        elif act[0] == "@" or dice.random() < 0.5:
            rules.append(f"if {condition(2)} then {act}")
        else:
            rules.append(f"if {condition(2)} then {{\n  {act}\n}} else {{\n  {to(where)}\n}}")
    return "\n".join(rules) + "\n"


_TEXTS = ("$syslogseverity-text", "$syslogfacility-text", "$pri-text", "$syslogseverity", "$syslogfacility", "$pri", "$.a", "$.b")  # fmt: skip
_WORDS = ("err", "warning", "info", "mail", "local0", "auth", "kern", "5", "10", "r", "er", "l", "", "ERR", "*.err")  # fmt: skip
_VALUES = (
    *('keepalive="on"', 'keepalive="true"', 'action.resumeRetryCount="-1"', 'action.resumeInterval="30s"'),
    *('queue.type="linkedlist"', 'queue.type="nosuch"', 'queue.size="big"', 'queue.workerthreads="2"'),
    *('tcp_framing="octet-counted"', 'tcp_framing="octet_counted"', 'protocol="udp"', 'protocol="sctp"'),
    *('port="601"', 'port="none"', 'ziplevel="0"', 'rebindinterval="0"', 'template=""', 'config.enabled="off"'),
    *('template="RSYSLOG_ForwardFormat"', 'template="T1"', 'template="T2"', 'template="nosuch"', 'name="x y"'),
    *('streamdrivermode="0"', 'streamdriverauthmode="anon"', 'address="192.0.2.200"', 'nosuch="1"', 'conerrskip="2"'),
)  # fmt: skip
_TEMPLATES = (
    'template(name="T1" type="string" string="<%PRI%>%TIMESTAMP% %HOSTNAME% %syslogtag%%msg%\\n")',
    'template(name="T2" type="list") {\n  constant(value="<")\n  property(name="pri")\n  constant(value=">")\n  property(name="msg" position.from="2")\n}',
    'template(name="T1" type="nosuch" string="%msg%")',
    'template(name="T1" type="list") {\n  property(name="msg")\n  property(name="nosuch")\n}',
    '$template T2,"<%PRI%>1 %TIMESTAMP:::date-rfc3339% %HOSTNAME% %APP-NAME% - - - %msg%\\n"',
)


def varied(seed: int) -> str:
    """A configuration with functions of texts, variables, templates, rulesets, and values of
    parameters that may be wrong.
    """
    dice = Random(seed)

    def text(deep: int) -> str:
        plain = dice.choice((dice.choice(_TEXTS), dice.choice(_TEXTS), f'"{dice.choice(_WORDS)}"'))
        if deep == 0 or dice.random() < 0.4:
            return plain
        inner, other = text(deep - 1), dice.choice(_WORDS)
        calls = (
            f"tolower({inner})",
            f"cstr({inner})",
            f'replace({inner}, "{other or "e"}", "x")',
            f"substring({inner}, {dice.randint(0, 2)}, {dice.randint(0, 3)})",
            f'field({inner}, ".", {dice.randint(1, 2)})',
            f'wrap({inner}, "-")',
            f"({inner} & {plain})",
            f"ltrim({inner})",
        )
        return dice.choice(calls)

    def number() -> str:
        return dice.choice((f"strlen({text(1)})", f"cnum({text(1)})", str(dice.randint(-1, 12)), "$.n + 1"))  # fmt: skip

    def condition(deep: int) -> str:
        if deep and dice.random() < 0.4:
            joined = f"{condition(deep - 1)} {dice.choice(('and', 'or'))} {condition(deep - 1)}"
            return dice.choice((joined, f"({joined})", f"not ({joined})"))
        words = ", ".join(f'"{dice.choice(_WORDS)}"' for _ in range(dice.randint(1, 3)))
        tests = (
            f'{text(2)} {dice.choice(("==", "!=", "contains", "startswith", "contains_i", "startswith_i"))} "{dice.choice(_WORDS)}"',
            f"{text(1)} {dice.choice(('==', '!=', 'contains', 'startswith'))} [{words}]",
            f"{number()} {dice.choice(('==', '!=', '<', '>', '<=', '>='))} {number()}",
            f"{text(1)} {dice.choice(('<', '>=', '=='))} {dice.choice((number(), text(1)))}",
            f're_match({text(1)}, "{dice.choice(("^e", "rn", "l.c", "[0-4]", "a|m"))}")',
            f"strlen({text(2)}) > {dice.randint(0, 9)}",
        )
        return dice.choice(tests)

    def act() -> str:
        values = " ".join(dice.sample(_VALUES, dice.choice((0, 0, 1, 1, 2))))
        where = dice.choice(COLLECTORS)
        plain = f'action(type="omfwd" target="{where}" port="514")'
        named = {word.split("=")[0].lower() for word in values.split('" ')}
        more = plain if "port" in named else plain.replace(")", f" {values})")
        return dice.choice((more, more, f"@{where}:514", "stop", "call r1"))

    out = dice.sample(_TEMPLATES, dice.choice((0, 0, 1, 2)))
    out.append(f"ruleset(name=\"r1\") {{\n  *.{dice.choice(('err', 'info'))} @198.51.100.21\n  {dice.choice(('mail.* stop', '*.crit @198.51.100.22'))}\n}}")  # fmt: skip
    for name in dice.sample("abn", dice.randint(0, 3)):
        out.append(f"set $.{name} = {number() if name == 'n' else text(1)};")
    for _ in range(dice.randint(2, 5)):
        kind = dice.random()
        if kind < 0.2:
            out.append(f"*.{dice.choice(('err', 'info', '*'))} {act()}")
        elif kind < 0.3:
            how = dice.choice(("contains", "isequal", "startswith", "!contains"))
            name = dice.choice(("syslogseverity-text", "pri-text", "syslogfacility"))
            out.append(f':{name}, {how}, "{dice.choice(_WORDS) or "x"}" {act()}')
        elif kind < 0.7:
            out.append(f"if {condition(1)} then {act()}")
        else:
            out.append(f"if {condition(2)} then {{\n  {act()}\n}} else {{\n  {act()}\n}}")
    return "\n".join(out) + "\n"
