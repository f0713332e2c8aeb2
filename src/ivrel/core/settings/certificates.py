"""What a platform lacks to verify a collector by its certificate (RFC 5425 section 5.2)."""

from __future__ import annotations

from ivrel.core.policy.collector import Collector
from ivrel.core.settings.scope import Scope


def lacking_for_tls(scope: Scope, c: Collector | None) -> str:
    """Return the abilities that a platform lacks to verify a collector.

    '' if it can, or says nothing of certificates.
    """
    dialect = scope.records.dialect
    if dialect.has("authority") and scope.records.get("authority").value is None:
        return (
            "TLS needs a file of the certificates that are trusted, and the configuration "
            "names none"
        )
    if dialect.has("destination.peer") and c is None:
        return "it is no collector of the policy, so that nobody knows the name in its certificate"
    if dialect.has("destination.peer") and c is not None and not c.certified:
        return (
            "TLS needs the name in the collector's certificate; say `certificate: NAME` in "
            "the policy"
        )
    return ""
