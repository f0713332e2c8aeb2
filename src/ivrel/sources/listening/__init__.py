"""Listening: sockets that messages come in by, and the recordings that keep them."""
