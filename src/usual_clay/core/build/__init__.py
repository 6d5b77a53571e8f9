"""Curves and surfaces made from others."""
