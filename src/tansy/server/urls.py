"""Addresses: the API, and the front end for all others."""

from django.urls import include, path, re_path

from tansy.server import frontend
from tansy.server.watch import health

urlpatterns = [
    path("api/", include("tansy.server.api.urls")),
    path("healthz", health.healthz),
    path("metrics", health.MetricsView.as_view()),
    re_path(r"^(?!api/|static/).*$", frontend.index),
]

# What fails before or outside of a view of the API is said as problem details too, never as an HTML page.
handler400 = "tansy.server.api.errors.bad_request"
handler404 = "tansy.server.api.errors.not_found"
handler500 = "tansy.server.api.errors.broken"
