"""Datasets joined together, with formulas, parameters, drill paths and the rules of who sees which rows."""
