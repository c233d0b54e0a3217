"""The tables of a setup: roles, targets, viewpoints, shaders, materials, meshes (with copies), nodes, lights."""

from itertools import pairwise
from typing import Any, Literal, get_args

from pydantic import Field, model_validator

from eddyfall.core.scene.setup.leaf import Rgb, Section, Vec2, Vec3, leaf
from eddyfall.core.scene.setup.sections.shadow import Faces, Softness, Technique

Triangles = Literal["file", "back_first", "sorted"]
BlendKind = Literal["opaque", "cutout", "blended", "premultiplied", "additive", "multiply", "destination_out"]
CutBy = Literal["cutoff", "pattern", "scattered"]
CUTS_BY: tuple[CutBy, ...] = get_args(CutBy)
ColoursHold = Literal["straight", "premultiplied", "premultiplied_codes"]


Transmits = Literal["none", "thin", "solid"]
ShadowThrough = Literal["none", "whole", "dithered", "tinted"]
SHADOWS_THROUGH: tuple[ShadowThrough, ...] = get_args(ShadowThrough)
WritesDepth = Literal["no", "drawn", "copied"]
WRITES_DEPTH: tuple[WritesDepth, ...] = get_args(WritesDepth)
VolumeSort = Literal["object", "none", "split"]
VOLUME_SORTS: tuple[VolumeSort, ...] = get_args(VolumeSort)
Thickness = Literal["value", "map", "back_faces", "missing"]
THICKNESSES: tuple[Thickness, ...] = get_args(Thickness)
MapRole = Literal["base", "metallic_roughness", "normal", "emissive", "occlusion", "transmission", "thickness"]
MAP_ROLES: tuple[MapRole, ...] = get_args(MapRole)
ValueRole = Literal[
    "base_rgb", "alpha", "metallic", "roughness", "normal_scale", "emissive_rgb", "occlusion_strength", "ior", "specular",
    "specular_rgb", "transmission", "thickness_m", "clearcoat", "clearcoat_roughness",
]  # fmt: skip
VALUE_ROLES: tuple[ValueRole, ...] = get_args(ValueRole)
How = Literal["as_is", "one_minus", "square", "root", "hundredth", "srgb"]
Channel = Literal["red", "green", "blue", "alpha"]
CHANNELS: tuple[Channel, ...] = get_args(Channel)


class Passes(Section):
    colour: bool = leaf(True, "-", "drawn in the colour passes")
    depth: bool = leaf(True, "-", "drawn in the depth prepass")
    shadow: bool = leaf(True, "-", "drawn into shadow maps")
    bake: bool = leaf(True, "-", "takes part in bakes", beside="bake")
    mirror: bool = leaf(True, "-", "drawn in planar mirrors")
    refract: bool = leaf(True, "-", "whether it shows what is behind, where its material transmits and the project refracts")


class Answers(Section):
    direct: bool = leaf(True, "-", "whether it answers light that comes straight from lights; opaque and cutout only")
    ambient: bool = leaf(
        True, "-", "whether it answers light from around: sky, lightmaps, bounce, reflections; opaque and cutout only"
    )


class Slot(Section):
    """A place for a picture that a base shader has."""

    on: bool = leaf(True, "-", "whether the shader has the slot; without it the material's factor is drawn, or the default")
    default: str | None = leaf(None, "-", "picture that is drawn where none is bound and on: a glTF image key; null: the factor")
    channel: Channel = leaf(
        "green", "-", "metallic_roughness: the channel of the picture that says how rough it is", beside="convert"
    )
    holds: Literal["roughness", "gloss"] = leaf(
        "roughness",
        "-",
        "metallic_roughness: whether that channel says how rough it is, or how glossy: 1 less that",
        beside="convert",
    )


class Parameter(Section):
    """A value that a base shader takes, and what it is to a metallic-roughness material."""

    role: ValueRole | None = leaf(
        None, "-", "what it is to a material; null: something that no other base shader has", beside="convert"
    )
    how: How = leaf(
        "as_is", "-", "how the role's value comes of it: as it is, 1 less it, squared, its root, a hundredth, or decoded from sRGB",
        beside="convert",
    )  # fmt: skip
    unit: str = leaf("-", "-", "the unit that it is said in", beside="convert", max_length=20)


class ParameterValue(Section):
    """What a material says for a parameter: a number, or three."""

    value: float | None = leaf(None, "-", "the number", beside="convert", ge=-1e6, le=1e6)
    rgb: Rgb | None = leaf(None, "-", "the three numbers of a colour", beside="convert")


class Shader(Section):
    works_on: tuple[str, ...] | None = leaf(
        None,
        "-",
        "targets that it has a version for, elsewhere the error colour is drawn; null: all",
        beside="convert",
        strict=False,
    )
    parameters: dict[str, Parameter] = Field(
        default_factory=dict, description="values it takes besides or in the stead of the material's own, by their names"
    )
    passes: Passes = Field(default_factory=Passes, description="which passes this shader has")
    answers: Answers = Field(default_factory=Answers, description="which light this shader answers")
    slots: dict[MapRole, Slot] = Field(
        default_factory=dict, description="its places for pictures, by role; all are there if not said"
    )
    fogs: bool = leaf(True, "-", "whether blended drawables with this shader fog at their own depth")


class MaterialMap(Section):
    """The picture of one role of a material."""

    image: str | None = leaf(None, "-", "picture that is bound: a glTF image key; null: what the scene file binds")
    on: bool = leaf(True, "-", "whether it is switched on; bound but not on, the shader's default is drawn")


class MaterialSetup(Section):
    maps: dict[MapRole, MaterialMap] = Field(
        default_factory=dict, description="its pictures, by role; as in the scene file if not said"
    )
    values: dict[str, ParameterValue] = Field(default_factory=dict, description="what its base shader's parameters are set to")
    shader: str | None = leaf(None, "-", "shader key; null is the stock shader of the material's alpha mode")
    blend: BlendKind | None = leaf(None, "-", "how it meets what is behind; null follows glTF alphaMode")
    double_sided: bool | None = leaf(None, "-", "whether back faces are drawn; null follows glTF doubleSided")
    colours_hold: ColoursHold | None = leaf(
        None,
        "-",
        "what the colours of its base picture are to its alpha: as they are, multiplied by it in light, or multiplied as codes; null: "
        "what its blend kind takes, unchanged",
    )
    filtered: Literal["straight", "premultiplied"] = leaf(
        "straight", "-", "whether mips and look-ups average the base picture's colours as they are, or multiplied by alpha"
    )
    cut_by: CutBy = leaf(
        "cutoff",
        "-",
        "cutouts: what alpha has to reach to be drawn: the cutoff, one of the steps of a pattern of 4 x 4 pixels, or a number of each "
        "place's own, scattered evenly",
    )
    coverage_kept: bool = leaf(
        False, "-", "cutouts: the alpha of each mip that is tested is scaled until as much passes as of the finest"
    )
    triangles: Triangles = leaf(
        "file",
        "-",
        "order of its triangles, if it is blended: as in the file, those seen from behind first, or farthest first",
    )
    transmits: Transmits | None = leaf(
        None,
        "-",
        "whether opaque ones let light through, as a thin wall that bends none, or as something solid; null: as the scene file says, "
        "solid where it gives a thickness",
    )
    transmission: float | None = leaf(
        None, "-", "share of the light it does not mirror that goes through; null: as the scene file says", ge=0, le=1
    )
    thickness: Thickness | None = leaf(
        None,
        "-",
        "solid ones: where the way through comes from: the factor, factor and map, the back faces of the same thing in the frame, or "
        "from an input that nothing is wired to, which reads as far; null: the map if there is one",
    )
    inside: Literal["refract", "blend"] = leaf(
        "refract",
        "-",
        "what lets light through: blend lays it straight over what is behind, unbent, before the copy is taken that others refract",
    )
    rougher: float = leaf(0.0, "-", "what refracts: added to its roughness, as dirt or frosting does", ge=0, le=1)
    hides: bool = leaf(True, "-", "what refracts: whether blended drawables behind it are hidden by its depth")
    writes_depth: WritesDepth = leaf(
        "no",
        "-",
        "what is blended or refracts: whether it writes its depth, so that what is blended, drawn later and lies farther is hidden (sorted "
        "ones; what refracts goes by hides); copied: and its depth stands in the copy that fog reads (of the prepass: if its shader is in "
        "it)",
    )
    casts_both_sides: bool | None = leaf(
        None, "-", "whether faces turned away from a light are drawn into its shadow maps; null follows double_sided"
    )
    shadow_alpha_test: bool = leaf(
        True, "-", "cutouts: whether the shadow pass tests the alpha; off, a face casts with its holes filled"
    )
    shadow_mip_bias: float = leaf(
        0.0, "level", "cutouts: added to the mip level whose alpha the shadow pass tests; less is finer", ge=-16, le=16
    )
    shadow_through: ShadowThrough | None = leaf(
        None,
        "-",
        "what is blended or lets light through: whether light passes it by, is blocked by all of it, by a pattern of so many texels as it "
        "covers, or goes on as coloured as what is seen through it; null: it passes what is blended by, glass blocks it",
    )
    shadow_coverage_kept: bool = leaf(
        False, "-", "cutouts: the alpha of each mip that the shadow pass tests is scaled until as much passes as of the finest"
    )


class MirrorPlane(Section):
    """A plane that mirrors what stands on one side of it to the other."""

    axis: Literal["x", "y", "z"] = leaf("x", "-", "axis that the plane stands across, in the mesh's own space", beside="geometry")
    at_m: float = leaf(0.0, "m", "where on that axis it stands", beside="geometry", ge=-1e6, le=1e6)
    uv_offset: Vec2 = leaf((0.0, 0.0), "tile", "added to the lightmap UV of what it mirrors", beside="geometry")


class CopyRule(Section):
    """One copy rule of a mesh, evaluated at export. Rules apply one after the other, in `order`."""

    kind: Literal["mirror", "array", "shell"] = leaf(
        "array", "-", "mirror adds mirrored copies, array shifted ones, shell an inner side at some thickness", beside="geometry"
    )
    order: int = leaf(0, "-", "rules with a smaller number apply first", beside="geometry", ge=0, le=1000)
    planes: tuple[MirrorPlane, ...] = Field(
        (MirrorPlane(),),
        description="planes of a mirror; each mirrors all that those before it have made",
        json_schema_extra={"unit": "-", "beside": ["geometry"]},
        min_length=1,
        max_length=12,
        strict=False,
    )
    count: int = leaf(2, "-", "how many there are with the original (array)", beside="geometry", ge=1, le=4096)
    step_m: Vec3 = leaf((1.0, 0.0, 0.0), "m", "shift from one array copy to the next, in the mesh's own space", beside="geometry")
    uv_offset: Vec2 = leaf(
        (0.0, 0.0),
        "tile",
        "added to the lightmap UV once for each array step, or to that of a shell's inner side",
        beside="geometry",
    )
    uv_mirrored: bool = leaf(
        False,
        "-",
        "copies' UVs are mirrored into the next tile instead of shifted; textures must wrap mirrored",
        beside="geometry",
    )
    thickness_m: float = leaf(0.1, "m", "distance of a shell's inner side behind its outer one", beside="geometry", gt=0, le=1000)
    strip: Literal["none", "bare", "unwrapped"] = leaf(
        "bare",
        "-",
        "edge strip of a shell: none, with the UVs of the faces it grows from (bare), or unwrapped",
        beside="geometry",
    )
    material: str | None = leaf(
        None, "-", "material of the copies, as a material part of their own; null keeps it", beside="geometry"
    )


class MeshSetup(Section):
    copies: dict[str, CopyRule] = Field(default_factory=dict, description="copy rules by name")
    lightmap_uv: Literal[0, 1] | None = leaf(None, "-", "UV set used for lightmaps; null is not lightmapped", beside="bake")
    dense: bool = leaf(False, "-", "paged map: drawn cluster by cluster, so that no size limit drops it; opaque and cutout only")


class NodeSetup(Section):
    drawn: bool = leaf(True, "-", "whether the node is drawn and casts at all")
    triangle_order: tuple[int, ...] = Field(
        (),
        description="numbers of its triangles in the order they are to have in the file; a node of one part",
        json_schema_extra={"unit": "-", "beside": ["geometry"]},
        max_length=4096,
        strict=False,
    )
    draw_rank: int = leaf(0, "-", "blended drawables with a higher rank are drawn later", ge=-10000, le=10000)
    key_shift_m: float = leaf(
        0.0, "m", "added to its sort key: blended drawables are sorted as if so much farther", ge=-1e6, le=1e6
    )
    split_at: tuple[str, ...] = Field(
        (),
        description="flat nodes along whose planes it is cut at export: what lies on either side is sorted and drawn on its own",
        json_schema_extra={"unit": "-", "beside": ["geometry"]},
        max_length=4,
        strict=False,
    )
    bounds_padding_m: float = leaf(0.0, "m", "added around the bounds before culling", ge=0, le=10000)
    draw_distance_m: float = leaf(0.0, "m", "range to the eye beyond which it is not drawn; 0 is always drawn", ge=0)
    casts: bool = leaf(True, "-", "whether it casts shadows")
    receives: bool = leaf(True, "-", "whether shadows fall on it")
    lightmap_size: int | None = leaf(
        None, "texel", "edge of its lightmap; null takes bake.resolution", beside="bake", ge=8, le=8192
    )
    moves: bool = leaf(
        False, "-", "whether it moves: no lightmap, left out of bakes and captures; light from around it comes from a grid"
    )
    lightmapped: bool = leaf(True, "-", "whether it has a lightmap, if its mesh has lightmap UVs", beside="bake")
    merges_children: bool = leaf(
        False, "-", "whether meshes of nodes below it merge with it at export, sharing its lightmap", beside="bake"
    )


class LightSetup(Section):
    on: bool = leaf(True, "-", "whether the light shines")
    range_m: float | None = leaf(None, "m", "how far a lamp reaches; null: as the scene file says, 0: endlessly", ge=0, le=1e6)
    casts: bool | None = leaf(None, "-", "whether it casts shadows; null: suns do, point and spot lights do not")
    bakes: Literal["full", "bounced", "nothing"] = leaf(
        "full", "-", "what lightmaps hold of it: direct and bounced light, bounced light only, or nothing", beside="bake"
    )
    lightmap_shade: float | None = leaf(
        None,
        "-",
        "its drawn shadow is laid over lightmaps too, and leaves so much of their light; null: it leaves lightmaps alone",
        ge=0,
        le=1,
    )
    technique: Technique | None = leaf(
        None, "-", "how its shadow is drawn; null: a sun follows shadow.technique, a lamp has maps of its own"
    )
    bias_mm: float = leaf(
        0.0, "mm", "shadow bias: what is looked up in its maps is lifted towards the light by so much", ge=0, le=100000
    )
    bias_slope: float = leaf(
        0.0,
        "texel",
        "shadow bias: lifted further by so many texels of the face's own slope in the map (its larger axis)",
        ge=0,
        le=64,
    )
    bias_normal_texels: float | None = leaf(
        None,
        "texel",
        "shadow bias: moved along the normal by so many texels, times the sine of the angle to the light; null: shadow.bias_texels and "
        "half the filter",
        ge=0,
        le=64,
    )
    bias_along_plane: bool = leaf(
        False, "-", "shadow bias: each texel of the filter is held against the depth that the face's own plane has there"
    )
    filter_px: int | None = leaf(
        None, "texel", "edge of the box of its maps' texels averaged at a look-up; null: shadow.filter_px", ge=1, le=7
    )
    softness: Softness = leaf(
        "box",
        "-",
        "how its shadow's edge is softened: the filter's width everywhere; as wide as what a search finds in the light's way makes it; "
        "or by many rays over its disc (technique rays)",
    )
    diameter_deg: float = leaf(0.0, "deg", "a sun: how wide it looks; the real one 0.533", ge=0, le=30)
    diameter_m: float = leaf(0.0, "m", "a lamp: how wide what shines is", ge=0, le=100)
    search_texels: int = leaf(32, "texel", "softness by search: widest box looked in, and averaged", ge=1, le=128)
    soft_rays: int = leaf(16, "rays", "softness by rays: how many from each pixel", ge=1, le=1024)
    contact_m: float = leaf(
        0.0, "m", "contact shadows: how far from each surface a march in screen space looks towards it; 0: none", ge=0, le=100
    )
    contact_thick_m: float = leaf(0.1, "m", "contact shadows: how thick what a march meets is taken to be", ge=0, le=100)
    resolution: int | None = leaf(
        None,
        "texel",
        "edge of each of its maps, a paged one aside; null: shadow.resolution, of a lamp shadow.light_resolution",
        ge=16,
        le=8192,
    )
    faces: Faces = leaf("front", "-", "which faces its maps draw: turned to the light, turned away, or both")
    kind: Literal["sun"] | None = leaf(None, "-", "sun adds a sun that the scene file does not have")
    towards: Vec3 = leaf((0.3, 0.8, 0.5), "-", "direction to an added sun")
    illuminance_lux: float = leaf(0.0, "lx", "illuminance of an added sun on a face turned to it", ge=0, le=1e7)
    rgb: Rgb = leaf((1.0, 1.0, 1.0), "-", "tint of an added sun")


class Viewpoint(Section):
    """A named camera: a glTF camera node, or eye and target."""

    camera: str | None = leaf(None, "-", "node key of a glTF camera; null uses eye and target", beside="camera")
    eye: Vec3 | None = leaf(None, "m", "camera position", beside="camera")
    target: Vec3 | None = leaf(None, "m", "point looked at", beside="camera")
    fov_y_deg: float = leaf(55.0, "deg", "vertical field of view when no glTF camera is named", beside="camera", ge=1, le=170)
    role: str = leaf("play", "-", "role whose settings apply", beside="camera")
    light_set: str | None = leaf(None, "-", "light set that shines; null is every light as it says itself")
    set: dict[str, dict[str, Any]] = Field(default_factory=dict, description="settings of this viewpoint alone: exposure only")

    @model_validator(mode="after")
    def _has_pose(self) -> "Viewpoint":
        if self.camera is None and (self.eye is None or self.target is None):
            raise ValueError("a viewpoint needs a camera, or eye and target")
        if self.camera is None and self.eye == self.target:
            raise ValueError("eye and target must differ")
        return self


class MoveKey(Section):
    """Where the camera of a move stands at a moment: a viewpoint, or eye and target."""

    t_s: float = leaf(0.0, "s", "when; keys follow each other by their moments", beside="moves", ge=-1e5, le=1e5)
    viewpoint: str | None = leaf(None, "-", "viewpoint that the camera stands at; null uses eye and target", beside="moves")
    eye: Vec3 | None = leaf(None, "m", "camera position", beside="moves")
    target: Vec3 | None = leaf(None, "m", "point looked at", beside="moves")
    fov_y_deg: float = leaf(55.0, "deg", "vertical field of view when no viewpoint is named", beside="moves", ge=1, le=170)
    cut: bool = leaf(False, "-", "the camera is there at once, and stands at the key before until then", beside="moves")

    @model_validator(mode="after")
    def _has_pose(self) -> "MoveKey":
        if (self.viewpoint is None) == (self.eye is None and self.target is None):
            raise ValueError("a key needs a viewpoint, or eye and target")
        if self.viewpoint is None and (self.eye is None or self.target is None or self.eye == self.target):
            raise ValueError("a key needs both eye and target, and they must differ")
        return self


class Move(Section):
    """A camera on its way: through its keys on a centripetal Catmull-Rom curve, turned evenly from each to the next."""

    keys: dict[str, MoveKey] = Field(default_factory=dict, description="keys by name")
    rate_hz: float = leaf(30.0, "Hz", "how often it is looked at", beside="moves", gt=0, le=240)
    role: str | None = leaf(None, "-", "role whose settings hold; null takes the viewpoint's", beside="moves")

    @model_validator(mode="after")
    def _goes_on(self) -> "Move":
        if len(self.keys) < 2:
            raise ValueError(f"a move needs two keys at the least, it has {len(self.keys)}")
        for (before, a), (after, b) in pairwise(self.in_time):
            if b.t_s == a.t_s:
                raise ValueError(f"keys {before!r} and {after!r} are both at {a.t_s:g} s")
        return self

    @property
    def in_time(self) -> list[tuple[str, MoveKey]]:
        """(name, key) by their moments: a JSON object has no order of its own (RFC 8259), and databases keep none."""
        return sorted(self.keys.items(), key=lambda item: item[1].t_s)


class Probe(Section):
    """A reflection probe: what coats mirror inside its box, captured at one place. See `probe_maps` for what was captured."""

    on: bool = leaf(True, "-", "whether it takes part")
    place_m: Vec3 = leaf((0.0, 0.0, 0.0), "m", "where it is captured, world space")
    low_m: Vec3 = leaf(
        (-1.0, -1.0, -1.0), "m", "low corner of its box, world space: what lies inside takes its reflections from it"
    )
    high_m: Vec3 = leaf((1.0, 1.0, 1.0), "m", "high corner of its box")
    boxed: bool = leaf(
        True, "-", "whether what it shows is put onto the faces of its box; else it is shown as if it were infinitely far away"
    )
    blend_m: float = leaf(0.0, "m", "over how far inside its faces its share grows from nought to all", ge=0, le=1e4)
    sees: bool = leaf(False, "-", "whether places that it cannot see, by the distances it captured, get less of it")
    size: Literal[16, 32, 64, 128, 256, 512] = leaf(128, "texel", "edge of its map", beside="probes")
    samples: int = leaf(16, "-", "paths for each texel of its map", beside="probes", ge=1, le=1024)

    @model_validator(mode="after")
    def _has_room(self) -> "Probe":
        for axis, low, high in zip("xyz", self.low_m, self.high_m):
            if low >= high:
                raise ValueError(f"its box has no room along {axis}: low_m {low:g} is not below high_m {high:g}")
        return self


class Grid(Section):
    """A light grid: what arrives at the points of a box, for things that move. See `grid_maps` for what was captured."""

    on: bool = leaf(True, "-", "whether it takes part")
    low_m: Vec3 = leaf((-1.0, -1.0, -1.0), "m", "low corner of its box, world space: its first point")
    high_m: Vec3 = leaf((1.0, 1.0, 1.0), "m", "high corner of its box: its last point")
    counts: tuple[int, int, int] = Field(
        (4, 3, 4), description="points along x, y and z, 2 to 64 each", json_schema_extra={"unit": "-"}, strict=False
    )
    sees: bool = leaf(False, "-", "whether a place gets less of points that cannot see it, by the distances they captured")
    smoothed: float = leaf(
        0.0, "-", "how far its harmonics are drawn towards even light against ringing; 0: not at all", ge=0, le=1
    )
    samples: int = leaf(256, "-", "paths for each point", beside="probes", ge=16, le=65536)

    @model_validator(mode="after")
    def _has_room(self) -> "Grid":
        for axis, low, high, count in zip("xyz", self.low_m, self.high_m, self.counts):
            if low >= high:
                raise ValueError(f"its box has no room along {axis}: low_m {low:g} is not below high_m {high:g}")
            if not 2 <= count <= 64:
                raise ValueError(f"{count} points along {axis} are not within 2 to 64")
        return self


class CapturedProbe(Section):
    """What a probe or a grid showed in one light set when it was captured, and of what (stamps are content hashes)."""

    image: str = Field(
        description="glTF image key: half floats; of a probe an octahedral map, r g b in nits, a distance in m; of a grid a row a point",
        json_schema_extra={"unit": "-"},
    )
    own: str = leaf("", "-", "stamp of the probe: place, size, paths, sky", beside="probes")
    scene: str = leaf("", "-", "stamp of all that light could meet and all that shone", beside="probes")
    lights: dict[str, str] = Field(default_factory=dict, description="stamps of the lights that shone")
    drawables: dict[str, str] = Field(default_factory=dict, description="stamps of the drawables that it saw")


class MirrorSetup(Section):
    """A planar mirror: a flat node whose coat shows the frame from the mirrored eye."""

    on: bool = leaf(True, "-", "whether it is drawn")
    node: str = Field(description="glTF node key of the flat thing that mirrors", json_schema_extra={"unit": "-"})
    divisor: Literal[1, 2, 4] = leaf(1, "-", "one pixel of the mirrored frame for so many by so many px")


class Volume(Section):
    """A box of mist, smoke or dust of one density: what a node's bounds enclose. The node's own faces are not drawn."""

    on: bool = leaf(True, "-", "whether it is there")
    node: str = Field(description="glTF node key of what bounds it, along the world's axes", json_schema_extra={"unit": "-"})
    per_m: float = leaf(0.05, "1/m", "how much of the light on its way is taken out on each metre: extinction", ge=0, le=1000)
    rgb: Rgb = leaf((0.5, 0.5, 0.5), "nit", "what it shows where nothing is seen through it")
    sort: VolumeSort = leaf(
        "object",
        "-",
        "how it is drawn with what is blended: sorted as one thing by its middle, over all that is sorted, or split, so that what lies "
        "in it comes between its parts",
    )


class SortPoint(Section):
    """A point that several blended nodes are sorted by: they are drawn one after the other, whatever lies around them."""

    place_m: Vec3 = leaf((0.0, 0.0, 0.0), "m", "where it is, world space")
    members: tuple[str, ...] = Field(
        (),
        description="glTF node keys, first drawn first; a node is a member of one",
        json_schema_extra={"unit": "-"},
        strict=False,
    )
    one_mesh: Literal["no", "in_order", "sorted"] = leaf(
        "no",
        "-",
        "whether its members are one mesh, drawn at once: their triangles one member after the other, or all together, farthest first",
    )


class LightSet(Section):
    """Which lights shine together, and so share a set of lightmaps."""

    on: dict[str, bool] = Field(
        default_factory=dict, description="by light key: whether it shines in this set; others as they say"
    )
    sky: float = leaf(1.0, "-", "share of the sky's light in this set; 0 is night", beside="bake", ge=0, le=1000)


class FocusRegion(Section):
    """A bake focus region: where there are any, bounced light is gathered only inside them."""

    low_m: Vec3 = leaf((-1e9, -1e9, -1e9), "m", "low corner, world space", beside="bake")
    high_m: Vec3 = leaf((1e9, 1e9, 1e9), "m", "high corner, world space", beside="bake")


class BakedMap(Section):
    """The stored lightmap of one receiver in one light set, and what it was baked from (stamps are content hashes)."""

    image: str = Field(description="glTF image key", json_schema_extra={"unit": "-"})
    encoding: Literal["srgb8", "linear16", "half"] = leaf("half", "-", "how its codes stand for values")
    scale_lux: float = leaf(1.0, "lx", "irradiance of the highest code (srgb8, linear16); 1 for half", gt=0)
    surface: str = leaf("", "-", "stamp of the receiver: geometry, place, lightmap UVs, bake settings", beside="bake")
    raw: str = leaf("", "-", "key under which the gathered light is kept", beside="bake")
    scene: str = leaf("", "-", "stamp of all that light could meet and all that shone", beside="bake")
    lights: dict[str, str] = Field(default_factory=dict, description="stamps of the lights that reached it")
    drawables: dict[str, str] = Field(default_factory=dict, description="stamps of the drawables its light paths met")
    over: tuple[str, ...] = Field(
        (), description="drawables named by the image's alpha: what covers most of a texel's sky", strict=False
    )


class BakedScene(Section):
    """Stamps of everything there was when lightmaps were baked, met or not."""

    drawables: dict[str, str] = Field(default_factory=dict, description="stamps by drawable")
    lights: dict[str, str] = Field(default_factory=dict, description="stamps by light")


class Override(Section):
    """Settings a role or target lays over the project's, by section."""

    set: dict[str, dict[str, Any]] = Field(default_factory=dict, description="section -> field -> value")


class RoleSetup(Override):
    session: bool = leaf(False, "-", "what the role sets ends with the session: it is not handed over", beside="hand-over")
