"""How alike two shapes are, whatever they are called and wherever they stand."""
