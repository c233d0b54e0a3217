"""What a build is made of: the scene from glTF, the setup that glTF cannot say, changes to both.

Hands out `read_scene`, `Setup`, `Build`, `resolve`, `apply_changes`; nothing here renders.
"""
