from django.apps import AppConfig


class ChangesConfig(AppConfig):
    name = "stonekettle.server.changes"
    label = "changes"
