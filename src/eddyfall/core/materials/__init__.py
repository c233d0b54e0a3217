"""What parameters of base shaders are to a material: roles, conversion to another base shader, what shows where one has no version."""
