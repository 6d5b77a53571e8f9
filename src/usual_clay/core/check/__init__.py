"""Judging geometry: deviation from what was measured."""
