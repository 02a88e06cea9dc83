"""All addresses of the API, and its description."""

from django.urls import include, path
from drf_spectacular.views import SpectacularAPIView

from tansy.server.archive_api import ArchiveView

urlpatterns = [
    path("schema/", SpectacularAPIView.as_view(), name="schema"),
    path("portfolios/<int:pk>/archive/", ArchiveView.as_view()),
    path("", include("tansy.server.accounts.urls")),
    path("", include("tansy.server.portfolios.urls")),
    path("", include("tansy.server.studies.urls")),
    path("", include("tansy.server.releases.urls")),
]
