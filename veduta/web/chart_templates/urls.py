from django.urls import path

from veduta.web.chart_templates import views

urlpatterns = [
    path("", views.list_chart_templates, name="templates"),
    path("receive/", views.receive, name="template-receive"),
    path("schema.json", views.download_schema, name="template-schema"),
    path("likes/", views.list_similar_charts, name="template-likes"),
    path("of/<uuid:chart>/", views.begin, name="template-begin"),
    path("of/<uuid:chart>/keep/", views.keep, name="template-keep"),
    path("of/<uuid:chart>/design/", views.apply_design_of_chart, name="template-design-of-chart"),
    path("<uuid:pk>/", views.show_template, name="template"),
    path("<uuid:pk>/use/", views.use, name="template-use"),
    path("<uuid:pk>/words/", views.set_words, name="template-words"),
    path("<uuid:pk>/design/", views.apply_design, name="template-design"),
    path("<uuid:pk>/file/", views.download_template, name="template-file"),
    path("<uuid:pk>/picture.png", views.show_picture, name="template-picture"),
    path("<uuid:pk>/delete/", views.delete, name="template-delete"),
    path("<uuid:pk>/restore/", views.restore, name="template-restore"),
]
