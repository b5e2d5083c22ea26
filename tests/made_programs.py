"""Portable executables made by hand: a section of code, and a version resource; signed by a CA made here."""

from __future__ import annotations

import hashlib
import struct
import subprocess
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID


def _aligned(data: bytes, to: int = 4) -> bytes:
    return data + b"\0" * (-len(data) % to)


def _block(key: str, value: bytes, children: list[bytes], text: bool, length: int | None = None) -> bytes:
    """A node of a version resource: its length, the length of its value, its type, its key, its value, its children."""
    head = key.encode("utf-16-le") + b"\0\0"
    body = b"\0" * (-(6 + len(head)) % 4)
    inner = _aligned(value) if children else value
    data = head + body + inner
    for child in children:
        data += b"\0" * (-(6 + len(data)) % 4) + child
    size = length if length is not None else len(value) // (2 if text else 1)
    return struct.pack("<HHH", 6 + len(data), size, int(text)) + data


def version_resource(values: dict[str, str]) -> bytes:
    """A VS_VERSIONINFO with these strings."""
    numbers = [*map(int, values.get("FileVersion", "1.0.0.0").split(".")), 0, 0, 0][:4]
    high, low = numbers[0] << 16 | numbers[1], numbers[2] << 16 | numbers[3]
    fixed = struct.pack("<13I", 0xFEEF04BD, 0x10000, high, low, high, low, 0x3F, 0, 0x40004, 1, 0, 0, 0)
    strings = [_aligned(_block(k, (v + "\0").encode("utf-16-le"), [], True)) for k, v in values.items()]
    table = _block("040904B0", b"", strings, True)
    info = _block("StringFileInfo", b"", [table], True)
    translation = _block("Translation", struct.pack("<HH", 0x409, 0x4B0), [], False)
    var = _block("VarFileInfo", b"", [translation], True)
    return _block("VS_VERSION_INFO", fixed, [_aligned(info), var], False)


def portable_executable(values: dict[str, str] | None = None) -> bytes:
    """A program that does nothing; with a version resource where values are given."""
    alignment, base_rsrc = 0x200, 0x2000
    version = version_resource(values) if values is not None else b""
    # three levels of directories, one entry in each: type 16, name 1, language 0x409
    rsrc = b""
    if values is not None:
        for level, name in enumerate((16, 1, 0x409)):
            below = 24 * (level + 1) | (0x80000000 if level < 2 else 0)
            rsrc += struct.pack("<IIHHHH", 0, 0, 0, 0, 0, 1) + struct.pack("<II", name, below)
        rsrc += struct.pack("<IIII", base_rsrc + 88, len(version), 0, 0) + version
    code = b"\xc3"
    sections = [(b".text", code, 0x1000, 0x60000020)] + ([(b".rsrc", rsrc, base_rsrc, 0x40000040)] if rsrc else [])
    headers = 0x200
    offset, table, raw = headers, b"", b""
    for name, data, address, flags in sections:
        padded = _aligned(data, alignment)
        table += struct.pack("<8sIIIIIIHHI", name, len(data), address, len(padded), offset, 0, 0, 0, 0, flags)
        raw += padded
        offset += len(padded)
    directories = [(0, 0)] * 16
    if rsrc:
        directories[2] = (base_rsrc, len(rsrc))
    optional = struct.pack("<HBBIIIII", 0x20B, 14, 0, 0x200, len(raw), 0, 0x1000, 0x1000)
    image = 0x1000 * (len(sections) + 1)
    optional += struct.pack("<QIIHHHHHHIIII", 0x140000000, 0x1000, alignment, 6, 0, 0, 0, 6, 0, 0, image, headers, 0)
    optional += struct.pack("<HHQQQQII", 3, 0, 0x100000, 0x1000, 0x100000, 0x1000, 0, 16)
    optional += b"".join(struct.pack("<II", *one) for one in directories)
    coff = struct.pack("<HHIIIHH", 0x8664, len(sections), 0, 0, 0, len(optional), 0x22)
    dos = b"MZ" + b"\0" * 58 + struct.pack("<I", 64)
    head = dos + b"PE\0\0" + coff + optional + table
    return head.ljust(headers, b"\0") + raw


def signed(program: Path, folder: Path, common_name: str = "Brackwater Ferries IT") -> str:
    """Sign a program in place, with a certificate of a CA that is made here; the certificate's thumbprint."""
    issuer_key, key = (ec.generate_private_key(ec.SECP256R1()) for _ in range(2))
    issuer = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "A CA of the tests")])
    subject = x509.Name(
        [
            x509.NameAttribute(NameOID.ORGANIZATION_NAME, "Brackwater Ferries"),
            x509.NameAttribute(NameOID.COMMON_NAME, common_name),
        ]
    )
    now = datetime.now(UTC)
    certificate = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(issuer)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=1))
        .not_valid_after(now + timedelta(days=30))
        .add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.CODE_SIGNING]), critical=False)
        .sign(issuer_key, hashes.SHA256())
    )
    pem, private, done = folder / "signer.pem", folder / "signer.key", folder / "signed"
    pem.write_bytes(certificate.public_bytes(Encoding.PEM))
    private.write_bytes(key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()))
    sign = ("osslsigncode", "sign", "-certs", pem, "-key", private, "-in", program, "-out", done)
    subprocess.run(sign, check=True, capture_output=True)
    done.replace(program)
    return hashlib.sha256(certificate.public_bytes(Encoding.DER)).hexdigest()
