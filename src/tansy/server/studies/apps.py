from django.apps import AppConfig


class StudiesConfig(AppConfig):
    name = "tansy.server.studies"
    label = "studies"
