from django.apps import AppConfig


class CapacityConfig(AppConfig):
    name = "stonekettle.server.capacity"
    label = "capacity"
