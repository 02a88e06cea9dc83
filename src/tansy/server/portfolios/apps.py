from django.apps import AppConfig


class PortfoliosConfig(AppConfig):
    name = "tansy.server.portfolios"
    label = "portfolios"
