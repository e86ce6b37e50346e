from django.urls import path

from veduta.web.sources import views

urlpatterns = [
    path("connections/", views.list_connections, name="connections"),
    path("connections/new/<str:kind>/", views.start_connection, name="connection-new"),
    path("connections/<int:number>/", views.show_connection, name="connection"),
    path("connections/<int:number>/save/", views.save_connection, name="connection-save"),
    path("connections/<int:number>/delete/", views.delete_connection, name="connection-delete"),
    path("connections/<int:number>/access/", views.set_connection_access, name="connection-access"),
    path("connections/<int:number>/rows/", views.show_source, name="connection-rows"),
    path("connections/<int:number>/try/", views.try_out, name="connection-try"),
]
