from django.urls import path

from veduta.web.colours import views

urlpatterns = [
    path("colours/", views.all_lists, name="colours"),
    path("colours/receive/", views.receive, name="colours-receive"),
    path("colours/file/", views.file, name="colours-file"),
    path("colours/new/", views.new, name="colours-new"),
    path("colours/<int:number>/", views.one_list, name="colours-list"),
    path("colours/<int:number>/set/", views.set_one, name="colours-set"),
    path("colours/<int:number>/forget/", views.forget, name="colours-forget"),
    path("colours/<int:number>/file/", views.list_file, name="colours-list-file"),
]
