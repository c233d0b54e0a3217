"""Scenes of an older release: what they do not say, fills that bounced light doubles, lamps that reach farther than they need."""
