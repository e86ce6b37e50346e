from django.urls import include, path

DATA = (
    "catalogue",
    "map_shapes",
    "palettes",
    "images",
    "imports",
    "sources",
    "shaping",
    "modelling",
    "refreshing",
    "lineage",
)

urlpatterns = [
    path("", include("veduta.web.home.urls")),
    path("", include("veduta.web.accounts.urls")),
    *(path("data/", include(f"veduta.web.{name}.urls")) for name in DATA),
    path("charts/", include("veduta.web.charts.urls")),
    path("templates/", include("veduta.web.chart_templates.urls")),
    path("dashboards/", include("veduta.web.dashboards.urls")),
]
handler404 = "veduta.web.home.views.handle_not_found"
handler403 = "veduta.web.home.views.handle_not_allowed"
handler500 = "veduta.web.home.views.handle_error"
