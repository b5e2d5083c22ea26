"""The headers of executables, read with LIEF: what a Windows program says of itself and who signed it (Authenticode),
and the build id of an ELF file. A hostile file may crash or hang the reader: call it by way of `worker`.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import lief
from cryptography import x509
from cryptography.x509.oid import NameOID

_MOST_TEXT = 255
_STRINGS = {"product": ("ProductName",), "vendor": ("CompanyName",), "version": ("ProductVersion", "FileVersion")}
"""Our fields, and the strings of a version resource that they are taken from."""
_BROKEN = "unsigned: signature broken"
_ONLY_OVER = ("CERT_EXPIRED", "CERT_FUTURE")
"""What is wrong with a signature whose certificate is past its time, and with nothing else."""

lief.logging.disable()


def described(path: Path) -> dict[str, Any]:
    """What an executable's headers say: `product`, `vendor`, `version`, `signer`, `certificate`, `build_id`, and
    `problems` in words.
    """
    if lief.is_pe(str(path)):
        binary = lief.PE.parse(str(path))
        return _of_pe(binary) if binary is not None else _unreadable()
    elf = lief.ELF.parse(str(path)) if lief.is_elf(str(path)) else None
    return _of_elf(elf) if elf is not None else _unreadable()


def _unreadable() -> dict[str, Any]:
    return {"problems": ["its headers are broken"]}


def _of_pe(binary: lief.PE.Binary) -> dict[str, Any]:
    found: dict[str, Any] = {"problems": []}
    strings = _strings(binary)
    for name, keys in _STRINGS.items():
        value = next((text for key in keys if (text := strings.get(key, "").strip(" \0"))), None)
        if value:
            found[name] = value[:_MOST_TEXT]
    return found | _signed(binary, found["problems"])


def _strings(binary: lief.PE.Binary) -> Mapping[str, str]:
    if not binary.has_resources or not isinstance(binary.resources_manager, lief.PE.ResourcesManager):
        return {}
    versions = binary.resources_manager.version
    info = versions[0].string_file_info if versions else None
    tables = info.children if info is not None else ()
    return {entry.key: entry.value for table in tables for entry in table.entries}


def _signed(binary: lief.PE.Binary, problems: list[str]) -> dict[str, Any]:
    """Who signed it, where the signature holds. Whether its issuer is to be trusted is not looked at."""
    if not binary.has_signatures:
        return {}
    flags = {flag.name for flag in lief.PE.Signature.VERIFICATION_FLAGS if flag in binary.verify_signature()}
    if flags - {"OK", *_ONLY_OVER}:
        problems.append(_BROKEN)
        return {}
    signer = next(iter(binary.signatures[0].signers), None)
    if signer is None or signer.cert is None:
        problems.append(_BROKEN)
        return {}
    raw = bytes(signer.cert.raw)
    names = x509.load_der_x509_certificate(raw).subject.get_attributes_for_oid(NameOID.COMMON_NAME)
    name = str(names[0].value) if names else str(signer.cert.subject)
    return {"signer": name[:_MOST_TEXT], "certificate": hashlib.sha256(raw).hexdigest()}


def _of_elf(binary: lief.ELF.Binary) -> dict[str, Any]:
    for note in binary.notes:
        if note.type == lief.ELF.Note.TYPE.GNU_BUILD_ID:
            return {"build_id": bytes(note.description).hex()[:80], "problems": []}
    return {"problems": []}
