"""All tables together, and bringing a database up to them."""

from __future__ import annotations

from importlib import import_module

import sqlalchemy as sa
from alembic import command
from alembic.config import Config
from alembic.runtime.migration import MigrationContext
from alembic.script import ScriptDirectory

from fair_ladle.app.plumbing.database import metadata
from fair_ladle.app.plumbing.migrating import alone, remembered
from fair_ladle.app.plumbing.settings import PROJECT

for _capability in (
    "accounts",
    "pools",
    "people",
    "usage",
    "allocations",
    "assignments",
    "statements",
    "log",
    "sign_in",
    "drafts",
    "notices",
    "enforcement",
    "requests",
    "purchases",
    "account_admin",
    "people_admin",
    "entitlements",
    "reclaim",
    "people_import",
    "devices",
    "leases",
    "numbers",
    "personal_storage",
    "storage",
    "storage_systems",
    "budgets",
    "receivables",
    "accounting",
    "plumbing",
):
    import_module(f"fair_ladle.app.{_capability}.tables")

__all__ = ["config", "metadata", "migrate"]


def config() -> Config:
    """Where the migrations are."""
    settings = Config()
    settings.set_main_option("script_location", str(PROJECT / "fair_ladle" / "migrations"))
    return settings


def migrate(engine: sa.Engine) -> bool:
    """Bring the database up to the newest schema; True where anything was done. One at a time: the others wait."""
    settings = config()
    head = ScriptDirectory.from_config(settings).get_current_head()
    with engine.connect() as connection:
        if _version(connection) == head:
            return False
        with alone(connection) as done:
            if _version(connection) == head:
                return False
            with connection.begin(), remembered(engine, done):
                settings.attributes["connection"] = connection
                command.upgrade(settings, "head")
            return True


def _version(connection: sa.Connection) -> str | None:
    found = MigrationContext.configure(connection).get_current_revision()
    connection.rollback()  # what is read next is read anew
    return found
