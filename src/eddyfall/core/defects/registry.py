"""The list of defect families. A family registers itself when its module is imported; nothing else needs to know it."""

from eddyfall.core.defects.contract import Code, Family

_families: dict[str, Family] = {}


def register(family: Family) -> Family:
    """Add a family (or replace one of the same name)."""
    _families[family.name] = family
    return family


def unregister(name: str) -> None:
    """Take a family out again."""
    _families.pop(name, None)


def families() -> list[Family]:
    """All families, by name."""
    return [_families[name] for name in sorted(_families)]


def all_codes() -> dict[str, Code]:
    """Every code that a registered family can find, by itself, in alphabetical order."""
    return {c.code: c for c in sorted((c for family in families() for c in family.codes), key=lambda c: c.code)}


def code_of(code: str) -> Code:
    """What is known of a code; a code that no family has (from an older file) stands for itself."""
    for family in families():
        for known in family.codes:
            if known.code == code:
                return known
    return Code(code=code, words=code, kind="Output", symptom=code, limit="")


def looks() -> dict[str, str]:
    """Every symptom that a code names, with the words of the first code that does."""
    found: dict[str, str] = {}
    for known in all_codes().values():
        found.setdefault(known.symptom, known.words)
    return found
