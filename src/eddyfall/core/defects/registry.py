"""The list of defect families. A family registers itself when its module is imported; nothing else needs to know it."""

from eddyfall.core.defects.contract import Family

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


def words_for(code: str) -> str:
    """The plain words of a finding code."""
    for family in families():
        if code in family.codes:
            return family.codes[code]
    return code
