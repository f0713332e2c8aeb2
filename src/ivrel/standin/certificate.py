"""A certificate for the collectors of the example, which its stand-ins trust."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from ivrel.core.policy import Collector
from ivrel.sources.files import write_bytes

CERTIFICATE = "collectors.pem"
KEY = "collectors.key"


def make_certificate(folder: Path, collectors: Iterable[Collector]) -> None:
    """Write a certificate and its key for all collectors, if they are not there yet."""
    if (folder / CERTIFICATE).exists() and (folder / KEY).exists():
        return
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "collectors of stand-ins")])
    every = list(collectors)
    names = [n for c in every for n in (c.name, *c.names, *c.certificate)]
    alternatives: list[x509.GeneralName] = [x509.DNSName(n) for n in dict.fromkeys(names)]
    alternatives += [x509.IPAddress(ipaddress.ip_address(c.address)) for c in every]
    now = datetime.now(UTC)
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=1))
        .not_valid_after(now + timedelta(days=365))
        .add_extension(x509.SubjectAlternativeName(alternatives), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .sign(key, hashes.SHA256())
    )
    pem = serialization.Encoding.PEM
    form = serialization.PrivateFormat.PKCS8
    none = serialization.NoEncryption()
    write_bytes(folder / KEY, key.private_bytes(pem, form, none), 0o600)
    write_bytes(folder / CERTIFICATE, made.public_bytes(pem))
