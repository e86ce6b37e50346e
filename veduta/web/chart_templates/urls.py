from django.urls import path

from veduta.web.chart_templates import views

urlpatterns = [
    path("", views.template_list, name="templates"),
    path("receive/", views.receive, name="template-receive"),
    path("schema.json", views.schema, name="template-schema"),
    path("likes/", views.likes, name="template-likes"),
    path("of/<uuid:chart>/", views.begin, name="template-begin"),
    path("of/<uuid:chart>/keep/", views.keep, name="template-keep"),
    path("of/<uuid:chart>/design/", views.design_of_chart, name="template-design-of-chart"),
    path("<uuid:pk>/", views.template, name="template"),
    path("<uuid:pk>/use/", views.use, name="template-use"),
    path("<uuid:pk>/words/", views.set_words, name="template-words"),
    path("<uuid:pk>/design/", views.design, name="template-design"),
    path("<uuid:pk>/file/", views.file, name="template-file"),
    path("<uuid:pk>/picture.png", views.picture, name="template-picture"),
    path("<uuid:pk>/delete/", views.delete, name="template-delete"),
    path("<uuid:pk>/restore/", views.restore, name="template-restore"),
]
