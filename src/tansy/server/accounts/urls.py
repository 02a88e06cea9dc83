from django.urls import path

from tansy.server.accounts import api, elsewhere, people_api

urlpatterns = [
    path("session/", api.SessionView.as_view()),
    path("session/elsewhere/", elsewhere.ElsewhereView.as_view()),
    path("session/back/", elsewhere.BackView.as_view()),
    path("password/", api.PasswordView.as_view()),
    path("tokens/", api.TokensView.as_view()),
    path("tokens/<int:pk>/", api.TokenView.as_view()),
    path("join/", people_api.JoinView.as_view()),
    path("people/", people_api.PeopleView.as_view()),
    path("people/<int:pk>/", people_api.PersonView.as_view()),
    path("people/<int:pk>/link/", people_api.PersonLinkView.as_view()),
    path("trail/", people_api.TrailView.as_view()),
    path("trail/file/", people_api.TrailFileView.as_view()),
]
