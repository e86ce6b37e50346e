from django.urls import path

from veduta.web.lineage import views

urlpatterns = [
    path("lineage/", views.show_lineage, name="lineage"),
]
