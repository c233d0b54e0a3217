"""The passes of the stand-in renderer, one module each; they do not import each other.

A pass is data: what it reads, what it writes, which settings it is given. `frame` runs them in the order of `schedule`.
"""
