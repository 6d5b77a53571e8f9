"""Surfaces inside four borders, and networks of them."""
