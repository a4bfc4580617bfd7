from django.apps import AppConfig


class JobsConfig(AppConfig):
    name = "stonekettle.server.jobs"
    label = "jobs"
