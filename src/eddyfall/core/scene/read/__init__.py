"""Files to a Scene: one module a format, or a part or an extension of one."""
