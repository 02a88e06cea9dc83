from django.apps import AppConfig


class ReleasesConfig(AppConfig):
    name = "tansy.server.releases"
    label = "releases"
