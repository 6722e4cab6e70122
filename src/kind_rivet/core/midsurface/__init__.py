"""Sheets in the middle of thin walls, with thickness."""
