from django.urls import path

from veduta.web.imports import views

urlpatterns = [
    path("uploads/", views.receive, name="upload-receive"),
    path("paste/", views.paste, name="paste"),
    path("uploads/<uuid:pk>/", views.upload, name="upload"),
    path("uploads/<uuid:pk>/options/", views.upload_options, name="upload-options"),
    path("uploads/<uuid:pk>/columns/<slug:field_id>/", views.upload_column, name="upload-column"),
    path("uploads/<uuid:pk>/start/", views.upload_start, name="upload-start"),
    path("uploads/<uuid:pk>/discard/", views.upload_discard, name="upload-discard"),
]
