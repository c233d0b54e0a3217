"""Columns of the rows that kernels and passes share, by name. A vector is named by its first column in kernels, by a slice elsewhere."""

# The surface buffer, float32: what the eye ray of a pixel meets.
ALBEDO = 0  # rgb
F0 = 3  # rgb
ROUGH = 6
NORMAL = 7  # xyz
EMITTED = 10  # rgb: unlit colour or emissive
DISTANCE = 13  # to the eye in m
OPEN = 14  # share of the light around that the occlusion map lets through
ROW = 15

ALBEDO_RGB = slice(ALBEDO, ALBEDO + 3)
F0_RGB = slice(F0, F0 + 3)
REFLECTING = slice(ALBEDO, F0 + 3)  # albedo and F0
NORMAL_XYZ = slice(NORMAL, NORMAL + 3)
EMITTED_RGB = slice(EMITTED, EMITTED + 3)

# The material table, float64.
BASE = 0  # rgb
BASE_ALPHA = 3
METALLIC = 4
ROUGHNESS = 5
EMISSIVE = 6  # rgb
NORMAL_SCALE = 9
DIELECTRIC_F0 = 10
UNLIT = 11
OCCLUSION_STRENGTH = 12
IOR = 13
THICKNESS = 14  # m
SIGMA = 15  # rgb, 1/m
F0_TINT = 18  # rgb
FACTORS = 21
