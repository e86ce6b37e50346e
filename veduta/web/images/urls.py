from django.urls import path

from veduta.web.images import views

urlpatterns = [
    path("pictures/", views.show_pictures, name="pictures"),
    path("pictures/receive/", views.receive, name="pictures-receive"),
    path("pictures/published/<slug:digest>/", views.show_published_picture, name="published-picture"),
    path("pictures/<uuid:pk>/", views.show_picture, name="picture"),
    path("pictures/<uuid:pk>/describe/", views.describe, name="picture-describe"),
    path("pictures/<uuid:pk>/delete/", views.delete, name="picture-delete"),
    path("pictures/<uuid:pk>/restore/", views.restore, name="picture-restore"),
]
