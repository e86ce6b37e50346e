from django.contrib.auth.views import LogoutView
from django.urls import path

from veduta.web.accounts import views

urlpatterns = [
    path("signed-in/", views.is_signed_in, name="is-signed-in"),
    path("sign-in/", views.SignIn.as_view(), name="sign-in"),
    path("sign-out/", LogoutView.as_view(), name="sign-out"),
    path("password/", views.change_password, name="password"),
    path("people/", views.list_people, name="people"),
    path("people/log/", views.list_deeds, name="deeds"),
    path("people/<int:pk>/", views.edit_person, name="person"),
]
