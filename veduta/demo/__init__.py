"""The made-up ferry company Skerry & Sound: its data, and a workspace filled with it."""

PASSWORD = "outer-light-2026"
