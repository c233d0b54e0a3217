"""The executor: schedule, memo, frame, crop, core sample. Hands out `render`, `Renderer`, `core_sample`, `pass_table`."""
