from django.urls import path

from tansy.server.studies import api, choice_api, fit_api, form_api, tries_api

urlpatterns = [
    path("portfolios/<int:pk>/studies/", api.PortfolioStudiesView.as_view()),
    path("studies/<int:pk>/", api.StudyView.as_view()),
    path("studies/<int:pk>/again/", api.AgainView.as_view()),
    path("studies/<int:pk>/stop/", api.StopView.as_view()),
    path("studies/<int:pk>/run/", api.RunView.as_view()),
    path("studies/<int:pk>/recipe/", api.RecipeView.as_view()),
    path("studies/<int:pk>/field/", api.SheetView.as_view()),
    path("studies/<int:pk>/summary/", api.SummaryView.as_view()),
    path("studies/<int:pk>/nodes/<str:node>/", api.NodeView.as_view()),
    path("studies/<int:pk>/nodes/<str:node>/look/", fit_api.LookView.as_view()),
    path("studies/<int:pk>/nodes/<str:node>/fit/", fit_api.FitView.as_view()),
    path("studies/<int:pk>/nodes/<str:node>/tested/", fit_api.TestedView.as_view()),
    path("studies/<int:pk>/nodes/<str:node>/drivers/", fit_api.DriversView.as_view()),
    path("studies/<int:pk>/nodes/<str:node>/parts/", fit_api.ForecastPartsView.as_view()),
    path("studies/<int:pk>/nodes/<str:node>/form/", form_api.FormView.as_view()),
    path("studies/<int:pk>/nodes/<str:node>/try/", tries_api.TryView.as_view()),
    path("studies/<int:pk>/nodes/<str:node>/workings/", tries_api.WorkingsView.as_view()),
    path("studies/<int:pk>/nodes/<str:node>/workings.<str:form>", tries_api.WorkingsFileView.as_view()),
    path("studies/<int:pk>/choice/", choice_api.ChoiceView.as_view()),
    path("studies/<int:pk>/nodes/<str:node>/keep/", tries_api.KeepView.as_view()),
    path("portfolios/<int:pk>/kept/", tries_api.KeptView.as_view()),
    path("kept/<int:pk>/withdraw/", tries_api.WithdrawView.as_view()),
]
