from django.urls import path

from veduta.web.map_shapes import views

urlpatterns = [
    path("shapes/", views.list_shapes, name="atlas"),
    path("shapes/receive/", views.receive, name="atlas-receive"),
    path("shapes/<uuid:pk>/", views.show_shapes, name="atlas-shapes"),
    path("shapes/<uuid:pk>/change/", views.change, name="atlas-change"),
    path("shapes/<uuid:pk>/spell/", views.spell_names, name="atlas-spell"),
    path("shapes/<uuid:pk>/use/", views.use, name="atlas-use"),
    path("shapes/<uuid:pk>/delete/", views.delete, name="atlas-delete"),
]
