from django.urls import path

from veduta.web.home import views
from veduta.web.home.parts import show_parts

urlpatterns = [
    path("", views.show_home, name="home"),
    path("find/", views.find, name="find"),
    path("understood/", views.parse_typed, name="understood"),
    path("parts/", show_parts, name="parts"),
    path("guide/", views.show_guide, name="guide"),
    path("guide/<slug:slug>/", views.show_guide, name="guide-page"),
]
