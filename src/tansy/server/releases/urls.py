from django.urls import path

from tansy.server.releases import api, webhooks_api

urlpatterns = [
    path("studies/<int:pk>/draft/", api.DraftView.as_view()),
    path("studies/<int:pk>/bridge/", api.BridgeView.as_view()),
    path("studies/<int:pk>/prepare/", api.PrepareView.as_view()),
    path("studies/<int:pk>/publish/", api.PublishView.as_view()),
    path("studies/<int:pk>/nodes/<str:node>/released/", api.ReleasedView.as_view()),
    path("studies/<int:pk>/nodes/<str:node>/releases/", api.NodeReleasesView.as_view()),
    path("portfolios/<int:pk>/releases/", api.ReleasesView.as_view()),
    path("releases/<int:pk>/", api.ReleaseView.as_view()),
    path("releases/<int:pk>/withdraw/", api.WithdrawReleaseView.as_view()),
    path("releases/<int:pk>/track/", api.TrackView.as_view()),
    path("portfolios/<int:pk>/webhooks/", webhooks_api.WebhooksView.as_view()),
    path("webhooks/<int:pk>/", webhooks_api.WebhookView.as_view()),
    path("webhooks/<int:pk>/try/", webhooks_api.TryWebhookView.as_view()),
    path("portfolios/<int:pk>/report/", api.ReportView.as_view()),
    path("portfolios/<int:pk>/released/<str:node>/", api.BesideView.as_view()),
    path("releases/<int:pk>/csv/", api.CsvView.as_view()),
    path("releases/<int:pk>/parquet/", api.ParquetView.as_view()),
    path("releases/<int:pk>/paths/", api.PathsView.as_view()),
    path("releases/<int:pk>/xlsx/", api.WorkbookView.as_view()),
    path("releases/<int:pk>/rows/", api.RowsView.as_view()),
]
