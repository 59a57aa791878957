"""One page a result: how it is read."""
