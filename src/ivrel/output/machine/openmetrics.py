"""OpenMetrics 1.0 text: verdicts counted by setting, devices by site, for a graph of how it goes
on.
"""

from __future__ import annotations

from collections import Counter
from typing import TextIO

from ivrel.core.settings import SETTINGS
from ivrel.core.vocabulary.verdict import CONTRADICTED, VERDICTS
from ivrel.output.escaping import for_label
from ivrel.output.views.audit import AuditView


def write(out: TextIO, audit: AuditView) -> None:
    """Write gauges; every verdict of a setting that was asked for is there, also where there is
    none.
    """
    verdicts: Counter[tuple[str, str]] = Counter()
    devices: Counter[tuple[str, str]] = Counter()
    sites: dict[str, None] = {}
    for r in audit.results:
        sites.setdefault(r.site)
        devices[
            r.site, "unreadable" if r.problem else "as_asked" if r.good else "not_as_asked"
        ] += 1
        for v in r.verdicts:
            verdicts[v.setting, v.verdict] += 1
    fleet = for_label(audit.fleet)
    _family(out, "ivrel_verdicts", "Verdicts of the last audit, by setting.")
    # Only an audit that is held against messages can find contradictions.
    found = {verdict for (_, verdict), number in verdicts.items() if number}
    told = [v for v in reversed(VERDICTS) if v != CONTRADICTED or v in found]
    for setting in (name for name in SETTINGS if any(verdicts[name, v] for v in VERDICTS)):
        for verdict in told:
            labels = f'fleet="{fleet}",setting="{setting}",verdict="{verdict}"'
            out.write(f"ivrel_verdicts{{{labels}}} {verdicts[setting, verdict]}\n")
    _family(
        out, "ivrel_devices", "Devices of the last audit, by site and by whether all is as asked."
    )
    for site in sorted(sites):
        for state in ("as_asked", "not_as_asked", "unreadable"):
            labels = f'fleet="{fleet}",site="{for_label(site)}",state="{state}"'
            out.write(f"ivrel_devices{{{labels}}} {devices[site, state]}\n")
    out.write("# EOF\n")


def _family(out: TextIO, name: str, about: str) -> None:
    out.write(f"# TYPE {name} gauge\n# HELP {name} {about}\n")
