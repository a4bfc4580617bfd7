from django.apps import AppConfig


class ExperimentsConfig(AppConfig):
    name = "stonekettle.server.experiments"
    label = "experiments"
