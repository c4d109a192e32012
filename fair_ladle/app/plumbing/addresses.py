"""E-mail addresses, countries, bank accounts and names as they are kept, and names as they may stand in a mail."""

from __future__ import annotations

import re

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


def is_country(text: str) -> bool:
    """Whether it is written like a country's code after ISO 3166."""
    return re.fullmatch("[A-Z]{2}", text) is not None


def is_iban(text: str) -> bool:
    """Whether it is an IBAN (ISO 13616) without spaces, its check digits right."""
    if not re.fullmatch(r"[A-Z]{2}\d{2}[A-Z0-9]{11,30}", text, re.ASCII):
        return False
    return int("".join(str(int(each, 36)) for each in text[4:] + text[:4])) % 97 == 1


LOOKS_LIKE_A_LINK = re.compile(r"[<>/:@\\]|\w\.[^\W\d_]{2,}")


def name(text: str, where: str) -> str:
    """A person's name; refused where it is empty, too long, or has line breaks and the like in it."""
    text = text.strip()
    if not text:
        raise invalid("Everybody has a name.", where)
    if len(text) > 200 or not text.isprintable():
        raise invalid("A name has at most 200 characters, and no line breaks or control characters.", where)
    return text


def in_a_mail(name: str, otherwise: str) -> str:
    """A name somebody gave as it may stand in a mail to somebody else: one that a mail program could make a link of is
    left out, since it would look as if the mail's own sender had written it."""
    return otherwise if LOOKS_LIKE_A_LINK.search(name) or not name.isprintable() else name


def greeting(name: str) -> str:
    """The first line of a mail to somebody."""
    return f"Hello {in_a_mail(name, '')}".strip() + ","
