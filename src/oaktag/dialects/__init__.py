"""Access lists as text, one file a dialect, both directions."""
