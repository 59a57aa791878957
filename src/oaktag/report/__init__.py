"""Figures, drawn from the documents of the commands."""
