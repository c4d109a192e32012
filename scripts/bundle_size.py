"""How much JavaScript a first visit loads, gzipped; more than is meant fails."""

from __future__ import annotations

import gzip
import re
import sys
from pathlib import Path

MOST = 180_000
dist = Path(__file__).parents[1] / "web" / "dist"
page = (dist / "index.html").read_text()
scripts = re.findall(r'(?:src|href)="/(assets/[^"]+\.js)"', page)
today = [path.relative_to(dist).as_posix() for path in (dist / "assets").glob("TodayScreen-*.js")]
size = sum(len(gzip.compress((dist / name).read_bytes())) for name in {*scripts, *today})
print(f"{size / 1000:.1f} kB gzipped in {len(scripts)} script(s) and the first screen; at most {MOST / 1000:.0f} kB")
sys.exit(size > MOST)
