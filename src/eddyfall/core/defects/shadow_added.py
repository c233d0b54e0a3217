"""What a change adds to the shadows of a frame, for the remedies of all families that reckon with shadow maps."""

from eddyfall.core.defects.contract import Cost
from eddyfall.core.defects.survey import Survey
from eddyfall.core.scene.changes import Change, apply_change
from eddyfall.core.truth.shadow_costs import shadow_cost


def added(survey: Survey, viewpoint: str, change: Change) -> tuple[Cost, ...]:
    """Bytes, draws and triangles that a change adds to a viewpoint's shadows, counted by what the passes draw."""
    before, after = (s.frame(viewpoint, "shadow_maps") for s in (survey, survey.on(apply_change(survey.build, change))))
    more = shadow_cost(after).less(shadow_cost(before))
    return (
        Cost("memory", float(more.bytes), "bytes"),
        Cost("draws", float(more.draws), "draws"),
        Cost("triangles", float(more.triangles), "triangles"),
    )
