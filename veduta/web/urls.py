from django.urls import include, path

urlpatterns = [
    path("", include("veduta.web.pages.urls")),
    path("", include("veduta.web.accounts.urls")),
    path("data/", include("veduta.web.datasets.urls")),
    path("charts/", include("veduta.web.charts.urls")),
    path("dashboards/", include("veduta.web.dashboards.urls")),
]
handler404 = "veduta.web.pages.views.not_found"
handler403 = "veduta.web.pages.views.not_allowed"
handler500 = "veduta.web.pages.views.went_wrong"
