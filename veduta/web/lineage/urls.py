from django.urls import path

from veduta.web.lineage import views

urlpatterns = [
    path("lineage/", views.lineage, name="lineage"),
]
