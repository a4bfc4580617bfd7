from django.apps import AppConfig


class TargetsConfig(AppConfig):
    name = "stonekettle.server.targets"
    label = "targets"
