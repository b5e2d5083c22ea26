"""A certificate that nobody has signed but its own key: for stand-ins on loopback, whose clients look past that."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import NameOID


def own_certificate(name: str, hosts: Sequence[str] = ()) -> bytes:
    """A fresh key and its certificate as PEM, good for a month, of that name and for these hosts."""
    key, now = ec.generate_private_key(ec.SECP256R1()), datetime.now(UTC)
    named = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    built = (
        x509.CertificateBuilder()
        .subject_name(named)
        .issuer_name(named)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=1))
        .not_valid_after(now + timedelta(days=30))
    )
    if hosts:
        built = built.add_extension(x509.SubjectAlternativeName([x509.DNSName(host) for host in hosts]), critical=False)
    certificate = built.sign(key, hashes.SHA256())
    private = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    return private + certificate.public_bytes(Encoding.PEM)
