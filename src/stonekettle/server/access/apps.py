from django.apps import AppConfig


class AccessConfig(AppConfig):
    name = "stonekettle.server.access"
    label = "access"
