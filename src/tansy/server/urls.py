"""Addresses: the API, and the front end for all others."""

from django.urls import include, path, re_path

from tansy.server import frontend

urlpatterns = [
    path("api/", include("tansy.server.api.urls")),
    re_path(r"^(?!api/|static/).*$", frontend.index),
]
