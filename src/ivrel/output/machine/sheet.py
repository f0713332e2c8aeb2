"""The change sheet as Markdown."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from ivrel.core.correcting import MEANS
from ivrel.core.vocabulary.wording import counted, plain
from ivrel.output.escaping import for_markdown as cell
from ivrel.output.escaping import for_markdown_block
from ivrel.output.escaping import for_markdown_code as code
from ivrel.output.views.sheet import Section, SheetMember, SheetView, waivers


def change_sheet(view: SheetView) -> Iterator[str]:
    """Yield the lines of the sheet: the summary for the board, the waves, then what devices have
    alike.
    """
    yield from _summary(view)
    yield from _waves(view)
    for section, members in view.sections:
        yield from ("", *_section(section, members))
    if view.unread:
        yield from ("", "## Not readable", "")
        yield from (f"- {cell(name)}: {cell(problem)}" for name, problem in view.unread)
    if view.sections.alike():
        yield from ("", "## Fingerprints", "")
        yield "Of the devices that are told of together: the SHA-256 of the configuration that each"
        yield from ("change was made for.", "")
        yield from (f"- {m.device}: `{m.fingerprint}`" for m in view.sections.alike())
    yield from ("", "## What is proved", "")
    yield "Each change was applied to the configuration at hand, and the outcome was read:"
    yield ""
    yield from (f"- **{name}**: {MEANS[name]}" for name in view.sections.told())


def _summary(view: SheetView) -> Iterator[str]:
    n = view.sections.counts
    name, file = map(cell, view.policy)
    yield f"# Change sheet: {cell(view.fleet)}"
    yield ""
    yield f"{view.day}, against the policy '{name}' ({file})."
    yield from ("", "| | |", "|---|---|")
    yield f"| devices looked at | {n.devices:,} |"
    yield f"| devices that change | {n.changed:,} |"
    yield f"| lines | {view.lines} |"
    yield f"| proved | {n.proved:,} of {n.changed:,} |"
    if view.unread:
        yield f"| not readable | {len(view.unread):,} |"
    if view.sections.effects:
        yield from ("", "What it brings about elsewhere:", "")
        for setting, effect, devices in view.sections.elsewhere():
            yield f"- {setting} ({counted(devices, 'device')}): {effect}."
    yield from ("", "What could go wrong:", "")
    yield from (f"- {cell(said)}" for said in view.wrong)
    yield from ("", f"How it is taken back: {cell(view.back)}")


def _waves(view: SheetView) -> Iterator[str]:
    if view.waves is None:
        return
    yield from ("", "## Waves", "", "| wave | devices | why these, and no more |", "|---|---|---|")
    for wave in view.waves:
        names = cell(", ".join(wave.devices))
        yield f"| {wave.number} | {len(wave.devices):,}: {names} | {cell(wave.why)} |"
    held = [(wave.number, one) for wave in view.waves for one in wave.held]
    if held:
        yield from ("", "Not in the wave that they would have been in:", "")
        yield from (f"- {cell(one.device)}, not in wave {n}: {cell(one.why)}" for n, one in held)


def _section(section: Section, members: Sequence[SheetMember]) -> Iterator[str]:
    names = cell(", ".join(m.device for m in members))
    yield f"## {names}" if len(members) == 1 else f"## {len(members):,} devices alike"
    yield ""
    if len(members) > 1:
        yield f"{names}; {section.platform}."
    else:
        yield f"{section.platform}; made for the configuration with SHA-256"
        yield f"`{members[0].fingerprint}`."
    yield ""
    if section.changes and not section.proved:
        yield from ("**Not proved.** It must not be sent as it is:", "")
        yield from (f"- {p.name}: {cell(p.why)}" for p in section.failing)
        yield ""
    if section.changes:
        yield from _change(section)
    if section.remains:
        yield from _remains(section, members)


def _change(section: Section) -> Iterator[str]:
    yield from ("| line | instead of | why |", "|---|---|---|")
    for change in section.changes:
        inside = f"{change.inside} / " if change.inside else ""
        old = f"`{code(change.replaces)}`" if change.replaces else "-"
        yield f"| `{code(inside + change.line)}` | {old} | {cell(change.reason)} |"
    yield from ("", "| setting | before | after |", "|---|---|---|")
    for turn in section.turns:
        before, after = (
            f"{cell(said)} ({verdict})"
            for said, verdict in ((turn.before, turn.was), (turn.after, turn.becomes))
        )
        yield f"| {turn.setting} | {before} | {after} |"
    yield ""
    for gap in section.gaps:
        yield from (f"{gap.collector} is not reached for {counted(gap.lines, 'line')} of it.", "")
    for gone in section.no_longer_sent:
        yield from (f"No longer sent: {cell(gone.words)}.", "")
    if section.proved:
        yield from ("Proved: " + ", ".join(p.title for p in section.proof) + ".", "")
    for title, text in (("Change", section.change), ("Back-out", section.backout)):
        yield from (f"{title}:", "", *for_markdown_block(text), "")


def _remains(section: Section, members: Sequence[SheetMember]) -> Iterator[str]:
    clashes = [r for r in section.remains if "; to correct that would break what " in r.why]
    if clashes:
        yield from ("**Not all that the policy asks can be had together:**", "")
        yield from (f"- {r.setting}: {cell(r.why)}" for r in clashes)
        yield ""
    yield from ("What remains:", "")
    for r in section.remains:
        yield f"- {r.setting} ({r.verdict}): {cell(r.why)}"
        yield from (f"  - instead: {cell(said)}" for said in r.instead)
        texts = waivers(r, members)
        if texts:
            yield from ("  - or a waiver in the policy:", "", "    ```yaml")
            yield from (f"    {plain(text)}" for text in texts)
            yield from ("    ```", "")
