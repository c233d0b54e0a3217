"""Surfaces to light: textures and mips, BRDF, lights, shadow look-up, fog, blending. No passes, no scene walking."""
