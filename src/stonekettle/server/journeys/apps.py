from django.apps import AppConfig


class JourneysConfig(AppConfig):
    name = "stonekettle.server.journeys"
    label = "journeys"
