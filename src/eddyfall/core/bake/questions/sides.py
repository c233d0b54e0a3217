"""Which places inside a texel lie on one side of what stands there: places that see each other along the surface, directly or by way of
others. A thin post leaves one side, since light and view go round it; a partition across the texel makes two."""

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from eddyfall.core.bake.light.light_scene import LitScene
from eddyfall.core.rays.threads import traced

NODES = 24


def lift_of(scene: LitScene, texel_m: float) -> float:
    """How far above the surface sight is tried: a hundredth of a texel, but beyond float32's error."""
    return max(0.01 * texel_m, 4 * scene.step_m)


def blocked(scene: LitScene, start: np.ndarray, end: np.ndarray) -> np.ndarray:
    """(n,) bool: whether something stands between places (n, 3)."""
    towards = end - start
    distance = np.linalg.norm(towards, axis=1)
    ask = distance > 1e-9
    result = np.zeros(len(start), bool)
    if ask.any() and len(scene.prim):
        direction = towards[ask] / distance[ask][:, None]
        hit = traced(scene.embree, start[ask], direction, distance[ask], query="OCCLUDED")
        result[ask] = hit >= 0
    return result


def sides(scene: LitScene, place: np.ndarray, facing: np.ndarray, texel_m: float) -> np.ndarray:
    """(n,) int number of the side of each place (n, 3) with its face normal (n, 3); the side with most places is 0."""
    n = len(place)
    lifted = place + facing * lift_of(scene, texel_m)
    nodes = np.unique(np.linspace(0, n - 1, min(NODES, n)).astype(int))
    i, j = np.triu_indices(len(nodes), 1)
    level = (facing[nodes[i]] * facing[nodes[j]]).sum(axis=1) > 0.5
    free = ~level | ~blocked(scene, lifted[nodes[i]], lifted[nodes[j]])
    joined = coo_matrix((np.ones(int(free.sum()), bool), (i[free], j[free])), shape=(len(nodes), len(nodes)))
    count, label = connected_components(joined, directed=False)
    if count == 1:
        return np.zeros(n, np.int64)
    result = np.full(n, -1, np.int64)
    result[nodes] = label
    for k in range(len(nodes)):
        left = np.flatnonzero(result < 0)
        if not len(left):
            break
        sees = ~blocked(scene, lifted[left], np.repeat(lifted[nodes[k]][None], len(left), axis=0))
        result[left[sees]] = label[k]
    result[result < 0] = 0
    order = np.argsort(-np.bincount(result, minlength=count), kind="stable")
    rank = np.empty(count, np.int64)
    rank[order] = np.arange(count)
    return rank[result]
