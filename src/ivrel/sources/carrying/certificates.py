"""Certificates for one configuration: an authority, a receiver with every name that the text
expects, and a client, at the places that the text names.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import NamedTuple

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    NoEncryption,
    PrivateFormat,
)
from cryptography.x509.oid import NameOID

_PEERS = re.compile(r"""(?:permittedpeers?\b)\s*=?\s*(\[[^\]]*\]|"[^"]*"|'[^']*'|\S+)""", re.I)
_WORD = re.compile(r"""[^\s"'\[\],;]+""")
_PLACES = {
    "authority": re.compile(r"""ca(?:file|cert)\b\s*=?\s*["']?(/[^\s"';]+)""", re.I),
    "certificate": re.compile(r"""(?:certfile|mycert)\b\s*=?\s*["']?(/[^\s"';]+)""", re.I),
    "key": re.compile(r"""(?:keyfile|myprivkey)\b\s*=?\s*["']?(/[^\s"';]+)""", re.I),
}


class KeyPair(NamedTuple):
    """A certificate and its key."""

    certificate: x509.Certificate
    key: ec.EllipticCurvePrivateKey


def peers_in(text: str) -> list[str]:
    """Return the names of peers that a configuration permits; wildcards get a name that fits.

    >>> peers_in('streamdriverpermittedpeers=["a.example", "*.b.example"]')
    ['a.example', 'any.b.example']
    """
    found: list[str] = []
    for said in _PEERS.findall(text):
        found += _WORD.findall(said)
    return list(dict.fromkeys(word.replace("*", "any") for word in found if ":" not in word))


def places_in(text: str) -> Iterator[tuple[str, str]]:
    """Yield the files that a configuration names: what is in each ('authority', 'certificate' or
    'key'), and its path.
    """
    for what, pattern in _PLACES.items():
        for path in dict.fromkeys(pattern.findall(text)):
            yield what, path


def pem(pair: KeyPair) -> Mapping[str, bytes]:
    """Return a certificate and its key as PEM."""
    key = pair.key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    return {"certificate": pair.certificate.public_bytes(Encoding.PEM), "key": key}


def new_authority() -> KeyPair:
    """Return a new authority."""
    return _signed("authority", [], None)


def signed_by(authority: KeyPair, names: list[str]) -> KeyPair:
    """Return a certificate with these names, which an authority signed."""
    return _signed(names[0] if names else "host", names, authority)


def write(folder: Path, pair: KeyPair) -> tuple[Path, Path]:
    """Write a certificate and its key into a folder; return both files."""
    files = pem(pair)
    for name, data in files.items():
        (folder / f"{name}.pem").write_bytes(data)
    return folder / "certificate.pem", folder / "key.pem"


def _signed(name: str, names: list[str], authority: KeyPair | None) -> KeyPair:
    key = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name[:64])])
    now = datetime.now(UTC)
    issuer = subject if authority is None else authority.certificate.subject
    made = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(issuer)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=400))
        .not_valid_after(now + timedelta(days=400))
        .add_extension(x509.BasicConstraints(authority is None, None), critical=True)
    )
    if names:
        found = [x509.DNSName(one) for one in names if one.isascii()]
        made = made.add_extension(x509.SubjectAlternativeName(found), critical=False)
    signer = key if authority is None else authority.key
    return KeyPair(made.sign(signer, hashes.SHA256()), key)
