"""Splines through ordered points."""
