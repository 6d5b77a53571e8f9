"""Bodies: how they float."""
