from django.apps import AppConfig


class SystemsConfig(AppConfig):
    name = "stonekettle.server.systems"
    label = "systems"
