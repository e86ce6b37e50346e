"""How a result is drawn: marks, axes, colours and layers, which kinds of drawing are made of."""
