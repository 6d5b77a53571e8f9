"""The command line: words in, a job and its recipes, files and a report out."""
