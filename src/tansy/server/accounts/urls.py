from django.urls import path

from tansy.server.accounts import api

urlpatterns = [
    path("session/", api.SessionView.as_view()),
    path("password/", api.PasswordView.as_view()),
    path("tokens/", api.TokensView.as_view()),
    path("tokens/<int:pk>/", api.TokenView.as_view()),
]
