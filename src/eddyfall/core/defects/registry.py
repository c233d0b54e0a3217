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


def symptom_of(code: str) -> str:
    """What one sees of a finding, in a word or two: what a case of it is filed under."""
    for family in families():
        if code in family.looks_like:
            return family.looks_like[code]
    return words_for(code)


def looks() -> dict[str, str]:
    """Every symptom that a code names, with the words of the first code that does."""
    found: dict[str, str] = {}
    for family in families():
        for code, symptom in family.looks_like.items():
            found.setdefault(symptom, family.codes[code])
    return found


def words_for(code: str) -> str:
    """The plain words of a finding code."""
    for family in families():
        if code in family.codes:
            return family.codes[code]
    return code
