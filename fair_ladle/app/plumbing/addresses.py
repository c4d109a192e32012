"""E-mail addresses as they are kept: small letters, and nothing in them that could be anything but an address."""

from __future__ import annotations

from fair_ladle.app.plumbing.problems import invalid


def email(text: str | None, where: str) -> str | None:
    """An address, or None where nothing is given; refused where it is none."""
    text = (text or "").strip().lower()
    if text and (
        len(text) > 254
        or "@" not in text[1:-1]
        or any(each.isspace() or not each.isprintable() or each in '<>"(),;' for each in text)
    ):
        raise invalid(f"{text[:80]!r} is no e-mail address.", where)
    return text or None
