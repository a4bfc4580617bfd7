from django.apps import AppConfig


class SeriesConfig(AppConfig):
    name = "stonekettle.server.series"
    label = "series"
