from django.urls import path

from veduta.web.refreshing import views

urlpatterns = [
    path("<uuid:pk>/refreshes/", views.show_refreshes, name="dataset-refreshes"),
    path("<uuid:pk>/taking/", views.set_taking, name="dataset-taking"),
    path("<uuid:pk>/schedule/", views.schedule_set, name="dataset-schedule"),
    path("<uuid:pk>/refresh/", views.refresh_start, name="refresh-start"),
    path("refreshes/<int:number>/", views.refresh, name="refresh"),
    path("refreshes/<int:number>/state/", views.refresh_state, name="refresh-state"),
    path("refreshes/<int:number>/stop/", views.refresh_stop, name="refresh-stop"),
]
