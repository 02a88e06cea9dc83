from django.urls import path

from tansy.server.portfolios import api

urlpatterns = [
    path("uploads/", api.UploadsView.as_view()),
    path("uploads/<int:pk>/", api.UploadView.as_view()),
    path("uploads/<int:pk>/preview/", api.PreviewView.as_view()),
    path("uploads/<int:pk>/load/", api.LoadView.as_view()),
    path("portfolios/", api.PortfoliosView.as_view()),
    path("portfolios/<int:pk>/", api.PortfolioView.as_view()),
]
