"""Bytes ↔ what they say, without sockets."""
