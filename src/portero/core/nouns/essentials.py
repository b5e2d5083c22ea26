"""Programs that are always allowed to start: without them a machine could neither run nor be mended."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from portero.core.nouns.device import Application


class Essential(NamedTuple):
    """One program, by its exact path, and what it is for; a path that ends in “/” stands for all below that folder.

    With a `user` it always starts for them, and is a program like any other for everybody else.
    """

    path: str
    purpose: str
    user: str | None = None


ROOT = "root"
_SYSTEM = r"C:\Windows\System32"
_BELOW_LIB = ("/lib", "/usr/lib")
_BELOW_BIN = ("/bin", "/sbin", "/usr/bin", "/usr/sbin")
LOADERS = (
    "/lib64/ld-linux-x86-64.so.2",
    "/lib/ld-linux-aarch64.so.1",
    *(f"{lib}/x86_64-linux-gnu/ld-linux-x86-64.so.2" for lib in _BELOW_LIB),
    *(f"{lib}/aarch64-linux-gnu/ld-linux-aarch64.so.1" for lib in _BELOW_LIB),
    "/usr/lib64/ld-linux-x86-64.so.2",
)
_SIGNING_IN = ("login", "agetty", "sshd", "su", "sudo", "unix_chkpwd", "dbus-daemon")
_DISPLAY = ("/usr/lib/xorg/Xorg", "/usr/bin/Xwayland", "/usr/bin/Xorg", "/usr/sbin/gdm3", "/usr/sbin/lightdm")
_NAME = re.compile(r"\S+")
_SHELLS = ("sh", "dash", "bash")
_PACKAGE_TOOLS = _NAME.findall("""
apt apt-cache apt-config apt-get apt-key apt-mark deb-systemd-helper deb-systemd-invoke debconf debconf-communicate
debconf-set-selections dpkg dpkg-deb dpkg-divert dpkg-maintscript-helper dpkg-preconfigure dpkg-query
dpkg-realpath dpkg-reconfigure dpkg-split dpkg-statoverride dpkg-trigger gpgv invoke-rc.d ldconfig perl sqv
start-stop-daemon update-alternatives update-ca-certificates update-rc.d
""")
_MENDING = _NAME.findall("""
awk basename cat chgrp chmod chown chroot cmp cp cut date df diff dirname du echo env expr false find getent getopt
grep groupadd gzip head hostname id install ip journalctl kill ln ls mawk md5sum mkdir mktemp mount mountpoint mv
nologin ps pwd readlink realpath reboot rm rmdir run-parts sed setpriv sha256sum shutdown sleep sort stat stty sync
systemctl tail tar tee tempfile test touch tr true umount uname uniq unlink unshare useradd usermod wc which xargs
xz zstd
""")
_PYTHONS = tuple(f"python3.{minor}" for minor in range(11, 15))


def _anywhere(names: Iterable[str], purpose: str, user: str | None = None) -> Iterator[Essential]:
    """Programs of the system's own folders, wherever among them a system keeps them."""
    return (Essential(f"{folder}/{name}", purpose, user) for name in names for folder in _BELOW_BIN)


ESSENTIALS = (
    Essential("/opt/portero/bin/portero-endpoint", "the endpoint itself"),
    Essential(r"C:\Program Files\Portero\portero-endpoint.exe", "the endpoint itself"),
    Essential("/sbin/init", "the first process of the system"),
    *(Essential(f"{lib}/systemd/systemd", "the first process of the system") for lib in _BELOW_LIB),
    *(Essential(f"{lib}/systemd/", "the system's own services", ROOT) for lib in _BELOW_LIB),
    Essential("/usr/lib/systemd/systemd-logind", "signing in"),
    Essential("/usr/lib/openssh/", "signing in"),
    *_anywhere(_SIGNING_IN, "signing in"),
    *(Essential(path, "what every program is loaded by") for path in LOADERS),
    *(Essential(path, "the display") for path in _DISPLAY),
    *_anywhere(_SHELLS, "the shell of the system's administrator", ROOT),
    *_anywhere(_PACKAGE_TOOLS, "putting in packages", ROOT),
    Essential("/usr/lib/apt/", "putting in packages", ROOT),
    Essential("/usr/lib/dpkg/", "putting in packages", ROOT),
    Essential("/usr/share/debconf/", "putting in packages", ROOT),
    Essential("/var/lib/dpkg/", "putting in packages", ROOT),
    *_anywhere(_MENDING, "mending the system", ROOT),
    *_anywhere(_PYTHONS, "the endpoint itself", ROOT),
    Essential("/sbin/launchd", "the first process of the system"),
    *(
        Essential(rf"{_SYSTEM}\{file}", "the system's own start and sign-in")
        for file in ("smss.exe", "csrss.exe", "wininit.exe", "winlogon.exe", "services.exe", "lsass.exe", "svchost.exe")
    ),
)
"""The whole list. It names paths where only the system's own installer writes: a file's name proves nothing."""

_WINDOWS_PATH = re.compile(r"^([A-Za-z]:[\\/]|\\\\)")


def normal_program_path(path: str) -> str:
    """The path in the form in which it is compared: as it is, but that Windows paths fold case and slashes."""
    return path.replace("/", "\\").casefold() if _WINDOWS_PATH.match(path) else path


_PATHS = {
    user: frozenset(normal_program_path(one.path) for one in ESSENTIALS if one.user == user) for user in (None, ROOT)
}
_FOLDERS = {
    user: tuple(one.path for one in ESSENTIALS if one.user == user and one.path.endswith("/")) for user in (None, ROOT)
}


def is_essential(program: Application, user: str | None) -> bool:
    """Whether the program always starts for this person (None: nobody that is known)."""
    if program.path is None:
        return False
    path = normal_program_path(program.path)
    for whose in (None, ROOT) if user == ROOT else (None,):
        if path in _PATHS[whose] or (path.startswith(_FOLDERS[whose]) and "/../" not in path):
            return True
    return False
