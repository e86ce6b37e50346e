"""Shapes of areas: read, checked, simplified for drawing, and matched with names."""
