"""People and groups."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, code_column, id_column, metadata


def _small(name: str, length: int) -> sa.Column[str]:
    """A text once more in small letters, compared letter by letter: filters over many people read nothing else."""
    return sa.Column(
        f"{name}_small",
        sa.String(length, collation="utf8mb4_nopad_bin"),
        sa.Computed(f"lower(`{name}`)", persisted=True),
    )


people = sa.Table(
    "people",
    metadata,
    id_column(),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False, index=True),
    code_column("username", 128, nullable=False, unique=True),
    sa.Column("display_name", sa.String(200), nullable=False),
    sa.Column("email", sa.String(254), index=True),
    sa.Column("status", sa.String(16), nullable=False),
    sa.Column("invited_at", Instant),
    sa.Column("last_seen_at", Instant),
    sa.Column("title", sa.String(200)),
    sa.Column("department", sa.String(200)),
    sa.Column("protected", sa.Boolean, nullable=False),
    sa.Column(
        "source",
        sa.String(64),
        nullable=False,
        server_default="here",
        comment="who keeps this person: here, or a directory",
    ),
    sa.Column("removed_at", Instant, comment="when status became removed; can be restored for a while"),
    sa.Column("kept", sa.JSON, comment="products released when suspended, to be given again on resuming"),
    sa.Column("touched", sa.BigInteger, nullable=False, server_default="0", comment="goes up with each lock"),
    sa.Column(
        "regroup",
        sa.Boolean,
        nullable=False,
        server_default="1",
        index=True,
        comment="whether rules are yet to be asked about them again",
    ),
    sa.Column("was_in", sa.JSON, comment="numbers of the accounts they were in before; bytes may have stayed there"),
    _small("username", 128),
    _small("display_name", 200),
    _small("email", 254),
    _small("title", 200),
    _small("department", 200),
    sa.Column(
        "find_small",
        sa.String(800, collation="utf8mb4_nopad_bin"),
        sa.Computed(
            "concat_ws(' ',lower(`display_name`),lower(`username`),lower(`email`),lower(`title`))", persisted=True
        ),
        comment="what is looked through for words",
    ),
    sa.Index("ix_people_display_name", "display_name"),
    sa.Index("ix_people_where", "username", "account_id", "status"),
    sa.Index("ix_people_username_small", "username_small"),
    sa.Index("ix_people_display_name_small", "display_name_small"),
    sa.Index("ix_people_email_small", "email_small"),
    sa.Index("ix_people_title_small", "title_small"),
    sa.Index("ix_people_department_small", "department_small"),
    sa.Index("ix_people_last_seen_at", "last_seen_at"),
)

groups = sa.Table(
    "groups",
    metadata,
    id_column(),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False),
    code_column("code", nullable=False),
    sa.Column("name", sa.String(200), nullable=False),
    sa.Column("rule", sa.Text),
    sa.Column("kept_rule", sa.Text, comment="the rule that rule_matches answers; another than rule = not yet"),
    sa.Column("precedence", sa.Integer),
    sa.Column(
        "source",
        sa.String(64),
        nullable=False,
        server_default="here",
        comment="who keeps this group: here, or a directory",
    ),
    sa.Column("touched", sa.BigInteger, nullable=False, server_default="0", comment="goes up with each lock"),
    sa.UniqueConstraint("account_id", "code"),
)

group_members = sa.Table(
    "group_members",
    metadata,
    sa.Column("group_id", sa.ForeignKey("groups.id", ondelete="CASCADE"), primary_key=True),
    code_column("member", 128, primary_key=True, comment="a username, or the code of another group"),
    sa.Column("place", sa.Integer, nullable=False),
    sa.Index("ix_group_members_member", "member"),
)

rule_matches = sa.Table(
    "rule_matches",
    metadata,
    sa.Column("group_id", sa.ForeignKey("groups.id", ondelete="CASCADE"), primary_key=True),
    sa.Column("person_id", sa.BigInteger, primary_key=True, autoincrement=False, index=True),
)
"""Who is in a group by its own rule: derived, see `memberships`."""

invitations = sa.Table(
    "invitations",
    metadata,
    id_column(),
    sa.Column("person_id", sa.ForeignKey("people.id"), nullable=False, index=True),
    sa.Column("token_hash", sa.String(64), nullable=False, unique=True),
    sa.Column("sent_at", Instant, nullable=False),
    sa.Column("expires_at", Instant, nullable=False),
    sa.Column("used_at", Instant),
    sa.Column("withdrawn_at", Instant),
)
