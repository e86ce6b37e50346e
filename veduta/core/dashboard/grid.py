"""The grid of a page that flows."""

COLUMNS = 12
ROW = 57
"""px of a row, with what lies between it and the next."""
MOST_GAP = 32
"""px between blocks at most: rows are so much lower."""
