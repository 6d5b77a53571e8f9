"""Every format, in and out. What comes from outside is checked before it is believed."""
