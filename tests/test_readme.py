"""Every command of the README runs, and its output there is current."""

import subprocess
import sys
from pathlib import Path


def test_the_readme_is_current() -> None:
    script = Path(__file__).resolve().parent.parent / "scripts" / "readme"
    done = subprocess.run([sys.executable, script, "--check"], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
