"""Paired measurements, run by ``./run bench``."""
