"""What is told when a file cannot be read or written."""

from usual_clay.core.errors import ClayError


class FileError(ClayError):
    """A file that cannot be read or written; its text says which, why, and what to do."""
