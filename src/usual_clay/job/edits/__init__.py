"""Edits of a job: job in, job out. Window, command line and demo call the same ones."""
