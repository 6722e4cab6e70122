"""The two ways an operation can end without a result."""


class Refused(Exception):
    """The input cannot be worked on.

    The message is one plain sentence for the analyst: what happened and why;
    `remedy` says what to do about it.
    """

    def __init__(self, reason: str, remedy: str = "") -> None:
        super().__init__(reason)
        self.reason = reason
        self.remedy = remedy

    def __str__(self) -> str:
        return f"{self.reason} {self.remedy}".strip()

    def __reduce__(self) -> tuple[type["Refused"], tuple[str, str]]:
        return type(self), (self.reason, self.remedy)


class Unreadable(Refused):
    """An input file cannot be read or holds nothing this program works on (exit code 3)."""
