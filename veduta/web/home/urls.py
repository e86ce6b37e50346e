from django.urls import path

from veduta.web.home import views
from veduta.web.home.parts import parts

urlpatterns = [
    path("", views.home, name="home"),
    path("find/", views.find, name="find"),
    path("understood/", views.understood, name="understood"),
    path("parts/", parts, name="parts"),
    path("guide/", views.guide, name="guide"),
    path("guide/<slug:slug>/", views.guide, name="guide-page"),
]
