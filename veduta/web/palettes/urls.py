from django.urls import path

from veduta.web.palettes import views

urlpatterns = [
    path("colours/", views.show_lists, name="colours"),
    path("colours/receive/", views.receive, name="colours-receive"),
    path("colours/file/", views.download_list, name="colours-file"),
    path("colours/new/", views.create_list, name="colours-new"),
    path("palettes/", views.show_palettes, name="palettes"),
    path("palettes/check/", views.check_palette, name="palettes-check"),
    path("palettes/save/", views.save_palette, name="palettes-save"),
    path("palettes/use/", views.use_palette, name="palettes-use"),
    path("palettes/dark/", views.set_dark, name="palettes-dark"),
    path("palettes/company/", views.set_company, name="palettes-company"),
    path("palettes/logo/receive/", views.receive_logo, name="palettes-receive"),
    path("palettes/logo/drop/", views.drop_logo, name="palettes-drop"),
    path("company/logo/", views.show_logo, name="company-logo"),
    path("palettes/<int:number>/delete/", views.delete_palette, name="palettes-delete"),
    path("palettes/<int:number>/restore/", views.restore_palette, name="palettes-restore"),
    path("colours/<int:number>/", views.show_list, name="colours-list"),
    path("colours/<int:number>/set/", views.set_one, name="colours-set"),
    path("colours/<int:number>/forget/", views.forget, name="colours-forget"),
    path("colours/<int:number>/file/", views.list_file, name="colours-list-file"),
]
