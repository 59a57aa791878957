"""Slow, obvious references and strategies, also for users' own tests."""
