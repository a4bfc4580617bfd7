from django.apps import AppConfig


class RunsConfig(AppConfig):
    name = "stonekettle.server.runs"
    label = "runs"
