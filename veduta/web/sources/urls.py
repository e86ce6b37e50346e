from django.urls import path

from veduta.web.sources import views

urlpatterns = [
    path("connections/", views.connections, name="connections"),
    path("connections/new/<str:kind>/", views.connection_new, name="connection-new"),
    path("connections/<int:number>/", views.connection, name="connection"),
    path("connections/<int:number>/save/", views.connection_save, name="connection-save"),
    path("connections/<int:number>/delete/", views.connection_delete, name="connection-delete"),
    path("connections/<int:number>/access/", views.connection_access, name="connection-access"),
    path("connections/<int:number>/rows/", views.source, name="connection-rows"),
    path("connections/<int:number>/try/", views.try_out, name="connection-try"),
]
