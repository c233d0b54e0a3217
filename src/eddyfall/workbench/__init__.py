"""The Django app: what is stored (models), what may be done (services), how it is asked for (api), what runs long (jobs).

Nothing of the job is computed here: services call the core.
"""
