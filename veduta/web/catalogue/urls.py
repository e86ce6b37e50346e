from django.urls import path

from veduta.web.catalogue import views

urlpatterns = [
    path("", views.list_datasets, name="data"),
    path("<uuid:pk>/", views.show_dataset, name="dataset"),
    path("<uuid:pk>/rows/", views.show_dataset_rows, name="dataset-rows"),
    path("<uuid:pk>/rows.csv", views.download_dataset, name="dataset-file"),
    path("<uuid:pk>/failures/<slug:field_id>/", views.show_failures, name="dataset-failures"),
    path("<uuid:pk>/release/", views.release_dataset, name="dataset-release"),
    path("<uuid:pk>/update/", views.update_dataset, name="dataset-update"),
    path("<uuid:pk>/fields/<slug:field_id>/", views.update_field, name="field-update"),
    path("<uuid:pk>/delete/", views.delete_dataset, name="dataset-delete"),
    path("<uuid:pk>/restore/", views.restore_dataset, name="dataset-restore"),
    path("<uuid:pk>/versions/<int:number>/", views.restore_version, name="version-restore"),
]
