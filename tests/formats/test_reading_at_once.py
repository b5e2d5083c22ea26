"""Bundles are read by several threads at once, also the first time: types that are worked out late crashed there."""

from __future__ import annotations

import subprocess
import sys

_READ_AT_ONCE = """
import sys, threading
from portero.core.nouns.estate import Estate
from portero.core.resolving.compiling import compile_bundle
from portero.core.resolving.documents import Parts, in_parts
from portero.formats.bundles import pack_document, read_bundle

sys.setswitchinterval(1e-6)
packed = pack_document(in_parts(compile_bundle(Estate(), ("whole-fleet",)), Parts()))
together, read = threading.Barrier(8), []

def read_one():
    together.wait()
    read.append(read_bundle(packed.packed, packed.digest))

threads = [threading.Thread(target=read_one) for _ in range(8)]
for thread in threads:
    thread.start()
for thread in threads:
    thread.join()
sys.exit(len(read) != 8)
"""


def test_several_threads_read_their_first_bundle_at_once():
    # before it was mended, one process in four came down
    for _ in range(10):
        assert subprocess.run([sys.executable, "-c", _READ_AT_ONCE], check=False).returncode == 0
