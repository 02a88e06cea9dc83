from django.apps import AppConfig


class ServerConfig(AppConfig):
    name = "tansy.server"
    label = "server"
