"""Files ↔ core objects, every value with its Location."""
