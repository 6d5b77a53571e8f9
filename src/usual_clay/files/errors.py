"""What is told when a file cannot be read or written."""


class FileError(Exception):
    """A file that cannot be read or written; its text says which, why, and what to do."""
