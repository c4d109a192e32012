"""Tables of people on their way in, and the parts in which they are brought in."""

from __future__ import annotations

import sqlalchemy as sa
from sqlalchemy.dialects.mysql import LONGBLOB

from fair_ladle.app.plumbing.database import Instant, code_column, id_column, metadata

people_imports = sa.Table(
    "people_imports",
    metadata,
    id_column(),
    sa.Column("sign_in_id", sa.BigInteger, nullable=False, index=True),
    code_column("through", nullable=False),
    sa.Column("by", sa.String(200), nullable=False),
    sa.Column("name", sa.String(200), nullable=False),
    sa.Column("at", Instant, nullable=False),
    sa.Column("header", sa.JSON, nullable=False),
    sa.Column(
        "cells", LONGBLOB, comment="the rows as they came: [row number, cells], as JSON, deflated; NULL once brought in"
    ),
    sa.Column("count", sa.Integer, nullable=False),
    sa.Column("how", sa.JSON, nullable=False, comment="which column is what, and what is done with whom"),
    sa.Column("state", sa.String(16), nullable=False, comment="open, planned, running, cancelled, broken or done"),
    sa.Column(
        "total", sa.Integer, nullable=False, server_default="0", comment="rows that something is to be done with"
    ),
    sa.Column("done", sa.Integer, nullable=False, server_default="0"),
    sa.Column("trouble", sa.Text, comment="why it broke off"),
    sa.Column("on_day", sa.Date, comment="the day on which a planned import begins"),
    sa.Column("reversed_by", sa.BigInteger, comment="the import that brought back who left by this one"),
)

people_import_parts = sa.Table(
    "people_import_parts",
    metadata,
    sa.Column("import_id", sa.ForeignKey("people_imports.id"), primary_key=True),
    sa.Column("number", sa.Integer, primary_key=True, autoincrement=False),
    sa.Column("steps", LONGBLOB, nullable=False, comment="what is to be done, row by row, as JSON, deflated"),
    sa.Column("outcome", LONGBLOB, comment="what was done, row by row; NULL = not yet"),
)
