"""What the user is making, as a value."""
