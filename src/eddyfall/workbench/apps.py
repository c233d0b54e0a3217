"""App configuration."""

from django.apps import AppConfig


class WorkbenchConfig(AppConfig):
    name = "eddyfall.workbench"
    label = "workbench"
