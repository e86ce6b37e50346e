"""The open chart grammar as people write it: read with its places, checked against its schema, completed."""
