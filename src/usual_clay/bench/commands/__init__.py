"""What the user can do: one file a station, one value an action."""
