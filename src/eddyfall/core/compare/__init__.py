"""Differences between pictures. Hands out `delta_e_2000` and `changed_share`."""
