"""Runs texts through Ivrel and through the real rsyslogd, and says how many are read as the daemon
carries them out.

    python tests/rsyslog/survey.py                 the cases, against what was recorded
    python tests/rsyslog/survey.py --record        writes down what the daemon does with them now; where
                                                   IVREL_RSYSLOGD is of another version, what it does differently
    python tests/rsyslog/survey.py --more          also the examples of rsyslog-doc, and the files of Debian's packages
    python tests/rsyslog/survey.py --generated N   also N generated texts
    python tests/rsyslog/survey.py --corrections   also corrects all that forward, and has the daemon carry that out

Of rsyslog-doc and the packages nothing is kept: apt-get gives them, where it can.
"""

from __future__ import annotations

import argparse
import re
import subprocess
import sys
import tempfile
from collections import Counter
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent))

import yaml
from rsyslog_cases import FOLDER, MAIN, Case, cases, compared, selections
from rsyslog_corrections import corrected, failing, files_of
from rsyslog_texts import generated
from rsyslogd import Seen, allowed, observe, version

from ivrel.core.correcting import Correction
from ivrel.core.text.bundle import pack
from ivrel.core.vocabulary.errors import Unreadable

DOCUMENTATION = Path("/usr/share/doc/rsyslog-doc/html/_sources")
# Packages of Debian that bring a file for rsyslog.
PACKAGES = (
    "acmetool", "arno-iptables-firewall", "frr", "haproxy", "homer-api", "jetty9", "postfix", "repowerd", "rsyslog",
    "swift", "sympa", "tomcat10", "ufw",
)  # fmt: skip
_WORTH = re.compile(r"@|omfwd|omrelp|action\(|^\$|^\S+\.\S+\s+\S|if .* then|ruleset|template", re.M)
# Devices, name spaces and modules that are not here.
_ELSEWHERE = re.compile(r"\b(?:device|networknamespace)=|omudpspoof|tls=.on", re.I)
_FORWARDS = re.compile(r"(?:^|\s)@[\w\[(@]|omfwd|omrelp")
Files = Mapping[str, str]


def main() -> int:
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument(
        "--record", action="store_true", help="write down what the daemon does with the cases"
    )
    parser.add_argument("--more", action="store_true", help="also texts that others wrote")
    parser.add_argument(
        "--generated", type=int, default=0, metavar="N", help="also N generated texts"
    )
    parser.add_argument("--corrections", action="store_true", help="also correct what forwards")
    parser.add_argument(
        "-v", "--verbose", action="store_true", help="name what is unknown, and why"
    )
    args = parser.parse_args()
    if not allowed():
        parser.error("this needs namespaces of its own: run it as root, where those are allowed")
    known = list(cases())
    seen = watched([case.order for case in known])
    if args.record and version().startswith("8.2302."):
        record(known, seen)
        return 0
    if args.record:
        record_differences(known, seen)
        return 0
    wrong = moved(known, seen)
    rows = {
        "cases": [
            (f"{c.topic}: {c.why}", c.files, s)
            for c, s in zip(known, seen, strict=True)
            if not c.enter
        ]
    }
    more: dict[str, list[tuple[str, Files]]] = {}
    if args.more:
        more = {
            "examples of rsyslog-doc": list(documented()),
            "files of packages": list(packaged()),
        }
    if args.generated:
        more["generated"] = [(f"seed {n}", {MAIN: generated(n)}) for n in range(args.generated)]
    for name, texts in more.items():
        found = watched([{"files": dict(files)} for _, files in texts])
        rows[name] = [(what, files, s) for (what, files), s in zip(texts, found, strict=True)]
    print(
        f"rsyslogd {version()}\n\n| | tried | certain | within bounds | unknown | wrong |\n|---|---|---|---|---|---|"
    )
    for name, tried in rows.items():
        wrong += table(name, tried, args.verbose)
    if args.corrections:
        print(
            "\n| | corrected | proved | as asked, taken and back | otherwise | left, nothing being sure | no text |"
        )
        print("|---|---|---|---|---|---|---|")
        for name, tried in rows.items():
            wrong += corrections(name, tried)
    return 1 if wrong else 0


def corrections(name: str, tried: list[tuple[str, Files, Seen]]) -> int:
    """Prints the row of the corrections of one kind of text; how many do otherwise than they
    say.
    """
    counts: Counter[str] = Counter()
    made: list[tuple[str, dict[str, str], Correction, Seen]] = []
    for what, files, seen in tried:
        if not _FORWARDS.search("\n".join(files.values())):
            continue
        try:
            done = corrected(files[MAIN] if len(files) == 1 else dict(files))
        except Unreadable:
            counts["no text"] += 1
            continue
        if done.changes:
            made.append((what, dict(files), done, seen))
        counts["made" if done.changes else "left"] += 1
    proved = [one for one in made if one[2].proved]
    for what, _, done, _ in made:
        if not done.proved:
            print(
                f"not proved: {name}: {what}: {[p.why for p in done.proof if not p.holds]}",
                file=sys.stderr,
            )
    after = watched([{"files": files_of(done.corrected)} for _, _, done, _ in proved])
    for (what, files, done, before), now in zip(proved, after, strict=True):
        why = failing(files, done, before, now)
        counts["otherwise" if why else "good"] += 1
        if why:
            print(f"otherwise: {name}: {what}: {why}", file=sys.stderr)
    numbers = [
        counts["made"],
        len(proved),
        counts["good"],
        counts["otherwise"],
        counts["left"],
        counts["no text"],
    ]
    print(f"| {name} | {' | '.join(map(str, numbers))} |")
    return counts["otherwise"] + len(made) - len(proved)


def watched(orders: list[dict[str, Any]]) -> list[Seen]:
    """What the daemon does with each."""
    return [seen for seen in observe(orders) if seen is not None]


def table(name: str, tried: list[tuple[str, Files, Seen]], verbose: bool) -> int:
    """Prints the rows of one kind of text: all, and those that forward; how many are wrong."""
    every: Counter[str] = Counter()
    forwarding: Counter[str] = Counter()
    for what, files, seen in tried:
        data = pack({file: text.encode("utf-8", "surrogateescape") for file, text in files.items()})
        how, why = compared(data, selections(seen), starts=seen.starts or not seen.sends)
        every[how] += 1
        forwarding[how] += bool(_FORWARDS.search("\n".join(files.values())))
        if how == "wrong" or (verbose and how == "unknown"):
            print(f"{how}: {name}: {what}: {why}", file=sys.stderr)
    for said, counts in ((name, every), (f"{name}, with forwarding", forwarding)):
        numbers = [str(counts[how]) for how in ("certain", "bounds", "unknown", "wrong")]
        print(f"| {said} | {sum(counts.values())} | {' | '.join(numbers)} |")
    return every["wrong"]


def moved(known: list[Case], seen: list[Seen]) -> int:
    """How many cases the daemon carries out otherwise than was recorded."""
    count = 0
    for case, now in zip(known, seen, strict=True):
        if selections(now) != case.sends or now.starts != case.starts:
            print(f"otherwise than recorded: {case.topic}: {case.why}", file=sys.stderr)
            count += 1
    return count


def record_differences(known: list[Case], seen: list[Seen]) -> None:
    """Writes what a daemon of another version does differently."""
    odd = [n for n, (case, now) in enumerate(zip(known, seen, strict=True)) if differs(case, now)]
    for n, now in zip(odd, watched([known[n].order for n in odd]), strict=True):
        seen[n] = now  # a busy machine loses messages
    rows = [
        {
            "topic": case.topic,
            "why": case.why,
            "starts": now.starts,
            "sends": {" ".join(map(str, e)): s.word for e, s in selections(now).items()},
        }
        for case, now in ((known[n], seen[n]) for n in odd)
        if differs(case, now)
    ]
    name = ".".join(version().split(".")[:2])
    head = f"# What rsyslogd {version()} does with the cases that is not as recorded there.\n"
    text = yaml.safe_dump({"differs": rows}, sort_keys=False, width=110, allow_unicode=True)
    (FOLDER.parent / "versions" / f"{name}.yaml").write_text(head + text)


def differs(case: Case, now: Seen) -> bool:
    """Whether a daemon does something else than was recorded."""
    return now.starts != case.starts or selections(now) != dict(case.sends)


def record(known: list[Case], seen: list[Seen]) -> None:
    """Writes what the daemon did into the files of the cases, and leaves the rest of them as it
    is.
    """
    found = iter(list(zip(known, seen, strict=True)))
    for path in sorted(FOLDER.glob("*.yaml")):
        out = [
            f"# What rsyslogd {version()} sends for each text; tests/rsyslog/survey.py --record writes it down.",
            "cases:",
        ]
        lines = [line for line in path.read_text().splitlines() if not line.startswith("#")][1:]
        at = 0
        while at < len(lines):
            line = lines[at]
            at += 1
            if re.match(r"    (?:starts|read): ", line):
                continue
            if not line.startswith("    sends:"):
                out.append(line)
                continue
            while at < len(lines) and lines[at].startswith("      "):
                at += 1
            case, now = next(found)
            sends = selections(now)
            out.append(f"    sends:{'' if sends else ' {}'}")
            out += [
                f"      {' '.join(map(str, end))}: {selection.word}"
                for end, selection in sends.items()
            ]
            if not now.starts:
                out.append("    starts: false")
            how, why = (
                ("certain", "") if case.enter else compared(case.data, sends, starts=now.starts)
            )
            if how == "wrong":
                print(f"wrong: {case.topic}: {case.why}: {why}", file=sys.stderr)
            elif how != "certain":
                out.append(f"    read: {how}")
        path.write_text("\n".join(out) + "\n")


def documented() -> Iterator[tuple[str, Files]]:
    """The examples of the documentation that look like configurations."""
    for path in sorted(DOCUMENTATION.rglob("*.rst.txt")):
        lines = path.read_text(errors="replace").splitlines()
        at = 0
        while at < len(lines):
            line = lines[at]
            at += 1
            if not line.rstrip().endswith("::") and not line.strip().startswith(".. code"):
                continue
            depth, block, begun = len(line) - len(line.lstrip()), [], at
            while at < len(lines) and (
                not lines[at].strip() or len(lines[at]) - len(lines[at].lstrip()) > depth
            ):
                block.append(lines[at])
                at += 1
            while block and (not block[0].strip() or block[0].strip().startswith(":")):
                block.pop(0)
            inner = min((len(b) - len(b.lstrip()) for b in block if b.strip()), default=0)
            text = "\n".join(b[inner:] for b in block).rstrip() + "\n"
            if (
                _WORTH.search(text)
                and not _ELSEWHERE.search(text)
                and not re.search(r"^\s*(?:[$#] )?(?:sudo|apt|apt-get|service|yum) ", text, re.M)
            ):
                yield f"{path.relative_to(DOCUMENTATION)}:{begun}", {MAIN: text}


def packaged() -> Iterator[tuple[str, Files]]:
    """The files of packages, each with what the package of rsyslog itself brings and a rule that
    forwards.
    """
    with tempfile.TemporaryDirectory() as name:
        subprocess.run(
            ["apt-get", "download", "-qq", *PACKAGES], cwd=name, check=False, capture_output=True
        )
        whole: dict[str, dict[str, str]] = {}
        for deb in sorted(Path(name).glob("*.deb")):
            tree = Path(name) / deb.stem
            subprocess.run(["dpkg-deb", "-x", str(deb), str(tree)], check=True)
            etc = tree / "etc"
            found = [
                *etc.glob(MAIN),
                *etc.glob("rsyslog.d/*.conf"),
                *tree.glob("usr/share/rsyslog/*.conf"),
            ]
            whole[deb.name.partition("_")[0]] = {
                _place(p, etc): p.read_text(errors="replace") for p in found
            }
        base = whole.get("rsyslog", {}).get(MAIN, "$IncludeConfig /etc/rsyslog.d/*.conf\n")
        for package, files in whole.items():
            for end in ("*.info @198.51.100.21:514\n", "*.* @@198.51.100.22:601\n"):
                yield package, {MAIN: base, **files, "rsyslog.d/90-forward.conf": end}


def _place(path: Path, etc: Path) -> str:
    return str(path.relative_to(etc)) if path.is_relative_to(etc) else path.name


if __name__ == "__main__":
    sys.exit(main())
