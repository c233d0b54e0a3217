"""From a file to a build: reads scene and setup; where no setup came along, fits one to the scene's own size and says each choice.

Hands out `open_build`, `finish_build`, `fit_build`, `default_setup_path`. Fitting loads the kernels, so it is imported only when needed."""

from eddyfall.core.intake.opening import default_setup_path, finish_build, fit_build, open_build

__all__ = ["default_setup_path", "finish_build", "fit_build", "open_build"]
