"""Real browsers under managed lists of sites, each in namespaces of its own: no network, and policy folders in memory.

Started as a program it reads one job as JSON and writes what it saw as JSON. The tests start it by `asked`.
"""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

SECONDS = 280


def asked(job: dict[str, Any], seconds: float = SECONDS) -> Any:
    """Do a job in new namespaces: `{"browser", "runs": [{"block", "allow", "urls"}]}` gives, for each run, which of
    its URLs were stopped; `{"browser", "kinds": true}` gives which kinds of navigation were.
    """
    command = ["unshare", "--net", "--mount", "--kill-child", sys.executable, str(Path(__file__))]
    done = subprocess.run(command, input=json.dumps(job), capture_output=True, text=True, timeout=seconds, check=False)
    if done.returncode:
        raise AssertionError(done.stderr[-3000:])
    return json.loads(done.stdout)


def _main() -> None:
    import driving
    import pages

    job = json.load(sys.stdin)
    driving.enter_namespaces()
    with pages.served() as web, driving.Browser.named(job["browser"], web) as browser:
        if job.get("kinds"):
            answer: Any = browser.kinds()
        else:
            answer = [browser.stopped(run["block"], run["allow"], run["urls"]) for run in job["runs"]]
    json.dump(answer, sys.stdout)


if __name__ == "__main__":
    _main()
