"""The family of errors Eddyfall speaks: each says what is wrong, where, and which rule was broken."""


class EddyfallError(Exception):
    """Base of all expected failures. `str()` is the one line a user sees."""

    def __init__(self, rule: str, where: str = "", file: str = "") -> None:
        self.rule = rule
        self.where = where
        self.file = file
        super().__init__(rule)

    def in_file(self, file: str) -> "EddyfallError":
        """The same error, with the file it came from filled in if it was not known yet."""
        self.file = self.file or file
        return self

    def __str__(self) -> str:
        return printable(": ".join(part for part in (self.file, self.where, self.rule) if part))


class SceneError(EddyfallError):
    """The scene file breaks a rule and cannot be read."""


class SetupError(EddyfallError):
    """The setup file breaks a rule."""


class ChangeError(EddyfallError):
    """A change cannot be read or does not apply."""


class RequestError(EddyfallError):
    """What was asked for does not exist in this build (viewpoint, target, pixel, symptom ...)."""


def printable(text: str, limit: int = 400) -> str:
    """`text` on one line without control characters, cut to `limit`: names from files reach terminals and reports."""
    clean = "".join(c if c.isprintable() else "\N{REPLACEMENT CHARACTER}" for c in text.replace("\n", " "))
    return clean if len(clean) <= limit else clean[: limit - 1] + "…"
