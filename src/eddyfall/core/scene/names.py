"""Text that comes in: what no store, report or terminal can hold is found here, once for files, requests and settings."""

import hashlib
from typing import Any

MAX_NAME = 400
KEPT_OF_LONG = 380


def fault_of(text: str) -> str | None:
    """What makes a text one that cannot be stored, in words; None if it can. (Unicode 15, section 3.9: surrogates are no characters.)"""
    if "\0" in text:
        return "holds a NUL character"
    try:
        text.encode()
    except UnicodeEncodeError:
        return "holds half of a surrogate pair"
    return None


def first_bad_text(value: Any, longest_key: int | None = None) -> tuple[str, str] | None:
    """(where, what is wrong) of the first bad text in nested JSON, keys of objects too; None if all is well.

    longest_key: characters a key may have.
    """
    stack: list[tuple[tuple[str, ...], Any]] = [((), value)]
    while stack:
        path, item = stack.pop()
        if isinstance(item, str) and (fault := fault_of(item)):
            return ".".join(path), fault
        if isinstance(item, dict):
            for key, inner in item.items():
                fault = fault_of(str(key))
                if fault is None and longest_key is not None and len(key) > longest_key:
                    fault = f"has a key of {len(key)} characters, more than {longest_key}"
                if fault:
                    return ".".join(path), fault if "key" in fault else f"has a key that {fault}"
                stack.append(((*path, str(key)), inner))
        elif isinstance(item, list):
            stack.extend(((*path, str(i)), inner) for i, inner in enumerate(item))
    return None


def clean_name(name: str) -> str:
    """A name as it can be shown and stored: U+FFFD for what no text may hold; one beyond MAX_NAME cut, with eight digits of its hash."""
    if fault_of(name):
        name = "".join("\N{REPLACEMENT CHARACTER}" if c == "\0" or 0xD800 <= ord(c) <= 0xDFFF else c for c in name)
    if len(name) <= MAX_NAME:
        return name
    return f"{name[:KEPT_OF_LONG]}… {hashlib.sha256(name.encode()).hexdigest()[:8]}"


def visible(text: str) -> str:
    """A text whose marks that show nothing, or turn the line round, are written out: ESC as ␛, others as ⟨U+202E⟩.

    The control pictures of Unicode (U+2400 to U+241F) stand for C0 controls; line breaks and tabs stay."""
    return "".join(c if c.isprintable() or c in "\n\t\u202f\u2009\u00a0" else _written_out(c) for c in text)


def _written_out(character: str) -> str:
    code = ord(character)
    return chr(0x2400 + code) if code < 0x20 else f"⟨U+{code:04X}⟩"


def short_id(text: str, most: int = 200) -> str:
    """An id made of names, as it is if it is short, else cut with eight digits of its hash: ids do not grow with names."""
    return text if len(text) <= most else f"{text[: most - 9]}~{hashlib.sha256(text.encode()).hexdigest()[:8]}"
