from django.urls import path

from veduta.web.catalogue import views

urlpatterns = [
    path("", views.dataset_list, name="data"),
    path("<uuid:pk>/", views.dataset, name="dataset"),
    path("<uuid:pk>/rows/", views.dataset_rows, name="dataset-rows"),
    path("<uuid:pk>/rows.csv", views.dataset_file, name="dataset-file"),
    path("<uuid:pk>/failures/<slug:field_id>/", views.failures, name="dataset-failures"),
    path("<uuid:pk>/release/", views.dataset_release, name="dataset-release"),
    path("<uuid:pk>/update/", views.dataset_update, name="dataset-update"),
    path("<uuid:pk>/fields/<slug:field_id>/", views.field_update, name="field-update"),
    path("<uuid:pk>/delete/", views.dataset_delete, name="dataset-delete"),
    path("<uuid:pk>/restore/", views.dataset_restore, name="dataset-restore"),
    path("<uuid:pk>/versions/<int:number>/", views.version_restore, name="version-restore"),
]
