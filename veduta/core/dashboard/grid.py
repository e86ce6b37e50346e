"""The grid of a page that flows."""

COLUMNS = 12
ROW = 57
"""px of a row, with the line under it."""
