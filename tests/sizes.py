"""How much is tried: a sample of random scenes in the everyday run, as many as a claim needs in the long one (`./run test --long`)."""

import os


def of_many(many: int, few: int) -> int:
    """`many` in a long run, else `few`. Asked while tests are collected, so that parameters may be counted by it."""
    return many if os.environ.get("EDDYFALL_TEST_LONG") == "1" else few
