"""What services raise when they cannot do what was asked."""


class Refused(Exception):
    """A refusal with sentences for the artist and an HTTP status."""

    def __init__(self, problems: list[str], status: int = 422):
        super().__init__("; ".join(problems))
        self.problems = problems
        self.status = status
