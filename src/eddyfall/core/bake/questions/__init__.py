"""What is asked of lightmaps: why a texel is as it is, where light leaks, what is worth baking, how a map would look otherwise."""
