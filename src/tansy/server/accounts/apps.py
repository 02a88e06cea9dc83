from django.apps import AppConfig


class AccountsConfig(AppConfig):
    name = "tansy.server.accounts"
    label = "accounts"
