"""What the README tells to write down holds."""

from __future__ import annotations

import re
import shutil
import subprocess
from pathlib import Path

import pytest

PROJECT = Path(__file__).parents[2]


@pytest.mark.skipif(shutil.which("systemd-analyze") is None, reason="no systemd here")
def test_the_unit_is_one(tmp_path: Path) -> None:
    unit = re.search(r"```ini\n(.*?)```", (PROJECT / "README.md").read_text(), re.S)
    assert unit is not None
    text = re.sub(r"^  ", "", unit[1], flags=re.M).replace("/opt/fair-ladle", str(PROJECT))
    written = tmp_path / "fair-ladle.service"
    written.write_text(text.replace("User=fair-ladle", "User=root"))
    done = subprocess.run(
        ["systemd-analyze", "verify", "--man=no", str(written)], capture_output=True, text=True, check=False
    )
    about = [line for line in done.stderr.splitlines() if "fair-ladle" in line]
    assert about == [], done.stderr
    assert "serve" in text and "FAIR_LADLE_HOME=" in text
