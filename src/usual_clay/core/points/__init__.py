"""Ordered and loose point lists: order, clean, offset for a probe's ball."""
