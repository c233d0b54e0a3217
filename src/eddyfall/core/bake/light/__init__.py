"""The light of texels: which texels a surface owns, the build as light sees it, and paths traced for each texel."""
