from django.urls import path

from tansy.server.studies import api

urlpatterns = [
    path("portfolios/<int:pk>/studies/", api.PortfolioStudiesView.as_view()),
    path("studies/<int:pk>/", api.StudyView.as_view()),
    path("studies/<int:pk>/again/", api.AgainView.as_view()),
    path("studies/<int:pk>/stop/", api.StopView.as_view()),
    path("studies/<int:pk>/run/", api.RunView.as_view()),
    path("studies/<int:pk>/recipe/", api.RecipeView.as_view()),
    path("studies/<int:pk>/field/", api.SheetView.as_view()),
    path("studies/<int:pk>/summary/", api.SummaryView.as_view()),
    path("studies/<int:pk>/nodes/<int:position>/", api.NodeView.as_view()),
]
