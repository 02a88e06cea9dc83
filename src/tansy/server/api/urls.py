"""All addresses of the API, and its description."""

from django.urls import include, path
from drf_spectacular.views import SpectacularAPIView

urlpatterns = [
    path("schema/", SpectacularAPIView.as_view(), name="schema"),
    path("", include("tansy.server.accounts.urls")),
    path("", include("tansy.server.portfolios.urls")),
    path("", include("tansy.server.studies.urls")),
    path("", include("tansy.server.releases.urls")),
]
