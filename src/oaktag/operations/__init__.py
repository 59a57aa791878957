"""The verbs that commands and Python users share, a file a verb, over one lazy model."""
