from django.apps import AppConfig


class HistoryConfig(AppConfig):
    name = "stonekettle.server.history"
    label = "history"
