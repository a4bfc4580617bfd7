from django.apps import AppConfig


class FeedsConfig(AppConfig):
    name = "stonekettle.server.feeds"
    label = "feeds"
