"""Edits that the interface makes in a session, by what they are made on."""
