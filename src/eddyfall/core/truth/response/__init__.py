"""How materials answer light: alone on a card, then in place against what is due, and which of several rivals is the cause if not."""
