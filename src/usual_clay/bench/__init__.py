"""The application: windows, panels, gestures."""
