from django.contrib.auth.views import LogoutView
from django.urls import path

from veduta.web.accounts import views

urlpatterns = [
    path("signed-in/", views.is_signed_in, name="is-signed-in"),
    path("sign-in/", views.SignIn.as_view(), name="sign-in"),
    path("sign-out/", LogoutView.as_view(), name="sign-out"),
    path("password/", views.own_password, name="password"),
    path("people/", views.people, name="people"),
    path("people/log/", views.deeds, name="deeds"),
    path("people/<int:pk>/", views.person, name="person"),
]
