"""How well reflection probes show, at each place that takes from them, what a mirror there would."""
