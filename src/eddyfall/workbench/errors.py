"""What a service refuses, turned into an answer once, in the API."""


class Refused(Exception):
    """status: HTTP status; detail: one plain line; retry_after_s: when it is worth asking again; more: extra keys of the answer."""

    def __init__(self, status: int, detail: str, *, retry_after_s: int | None = None, **more: object) -> None:
        super().__init__(detail)
        self.status, self.detail, self.retry_after_s, self.more = status, detail, retry_after_s, more


class NotThere(Refused):
    """What was asked for does not exist, or not for this user: the two look alike on purpose."""

    def __init__(self, what: str) -> None:
        super().__init__(404, f"{what} does not exist")


class Conflict(Refused):
    """Someone else wrote first. `yours` and `current` hold both."""

    def __init__(self, detail: str, yours: object, current: object) -> None:
        super().__init__(409, detail, yours=yours, current=current)


class Dropped(Exception):
    """Whoever asked has gone: nobody waits for the answer, and nothing is stored."""
