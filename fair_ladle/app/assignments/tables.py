"""Claims: derived from the facts, and kept for their locks."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import code_column, metadata

claims = sa.Table(
    "claims",
    metadata,
    code_column("what", 80, primary_key=True, comment="product and its code, or family and its name"),
    code_column("subject", 140, primary_key=True),
)
"""Who has, or will have, a unit: one a product and device or number, one a family (or product) and person. The key
keeps it so, whoever comes at the same moment. Sessions claim nothing; a reserved seat is a subject of its own."""
