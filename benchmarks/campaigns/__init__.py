"""Attacks on the tool that can be repeated: each says what it did, and what did not hold."""
