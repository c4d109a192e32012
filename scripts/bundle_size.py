"""How much JavaScript a first visit loads, gzipped; more than is meant fails."""

from __future__ import annotations

import gzip
import re
import sys
from pathlib import Path

MOST = 180_000
dist = Path(__file__).parents[1] / "web" / "dist"
page = (dist / "index.html").read_text()
scripts = {dist / name for name in re.findall(r'(?:src|href)="/(assets/[^"]+\.js)"', page)}
scripts |= set((dist / "assets").glob("TodayScreen-*.js"))
waiting = list(scripts)
while waiting:
    # What a script imports is loaded with it; what it imports when that is wanted (in brackets) is not.
    text = waiting.pop().read_text()
    found = {dist / "assets" / name for name in re.findall(r'(?:from|import)\s*["`\']\./([^"`\']+\.js)["`\']', text)}
    waiting += found - scripts
    scripts |= found
size = sum(len(gzip.compress(each.read_bytes())) for each in scripts)
print(f"{size / 1000:.1f} kB gzipped in {len(scripts)} scripts up to the first screen; at most {MOST / 1000:.0f} kB")
sys.exit(size > MOST)
