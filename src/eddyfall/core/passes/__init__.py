"""The passes of the stand-in renderer, one module each; they do not import each other.

A pass is data: what it reads, what it writes, which settings it is given. `frame` runs them in the order of `schedule`. Each module here
is imported, so that what it registers is found.
"""

import importlib
import pkgutil

for _module in pkgutil.iter_modules(__path__):
    importlib.import_module(f"{__name__}.{_module.name}")
