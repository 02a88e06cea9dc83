from django.urls import path

from tansy.server.portfolios import api, cleaning_api, members_api, plans

urlpatterns = [
    path("uploads/", api.UploadsView.as_view()),
    path("uploads/<int:pk>/", api.UploadView.as_view()),
    path("uploads/<int:pk>/preview/", api.PreviewView.as_view()),
    path("uploads/<int:pk>/refused/", api.RefusedView.as_view()),
    path("uploads/<int:pk>/load/", api.LoadView.as_view()),
    path("uploads/<int:pk>/append/", api.AppendView.as_view()),
    path("loads/<int:pk>/", api.OneLoadView.as_view()),
    path("portfolios/", api.PortfoliosView.as_view()),
    path("portfolios/<int:pk>/", api.PortfolioView.as_view()),
    path("portfolios/<int:pk>/members/", members_api.MembersView.as_view()),
    path("members/<int:pk>/", members_api.MemberView.as_view()),
    path("members/<int:pk>/link/", members_api.MemberLinkView.as_view()),
    path("portfolios/<int:pk>/trail/", members_api.PortfolioTrailView.as_view()),
    path("portfolios/<int:pk>/trail/file/", members_api.PortfolioTrailFileView.as_view()),
    path("portfolios/<int:pk>/loads/", api.LoadsView.as_view()),
    path("portfolios/<int:pk>/coverage/", cleaning_api.CoverageView.as_view()),
    path("portfolios/<int:pk>/overview/", cleaning_api.OverviewView.as_view()),
    path("portfolios/<int:pk>/series/<str:series>/", cleaning_api.SeriesView.as_view()),
    path("portfolios/<int:pk>/searches/", cleaning_api.SearchesView.as_view()),
    path("searches/<int:pk>/decisions/", cleaning_api.DecisionView.as_view()),
    path("portfolios/<int:pk>/corrections/", cleaning_api.LedgerView.as_view()),
    path("portfolios/<int:pk>/corrections/file/", cleaning_api.LedgerFileView.as_view()),
    path("portfolios/<int:pk>/corrections/revert/", cleaning_api.RevertView.as_view()),
    path("portfolios/<int:pk>/corrections/mark/", cleaning_api.MarkView.as_view()),
    path("portfolios/<int:pk>/plans/", plans.PlansView.as_view()),
    path("calendars/", plans.CalendarsView.as_view()),
    path("plans/<int:pk>/", plans.PlanView.as_view()),
    path("portfolios/<int:pk>/kinds/", cleaning_api.KindsView.as_view()),
]
