"""What `make lint` checks that no tool knows: the words of the code."""
