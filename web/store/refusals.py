"""What is refused before a command is carried out."""


class Stale(Exception):
    """The page was made from an older version of the job."""

    def __init__(self, version, happened):
        self.version, self.happened = version, happened
        what = "; ".join(happened) or "it was changed"
        super().__init__(
            f"The job has changed since this page was drawn: {what}. It is shown anew; please do your change again."
        )


class Forbidden(Exception):
    """The user may look but not change."""
