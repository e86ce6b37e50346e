from django.urls import path

from veduta.web.charts import views

urlpatterns = [
    path("", views.list_charts, name="charts"),
    path("new/", views.start_chart, name="chart-new"),
    path("<uuid:pk>/", views.show_workbench, name="chart"),
    path("<uuid:pk>/answer/", views.answer, name="chart-answer"),
    path("<uuid:pk>/openings/", views.show_other_suggestions, name="chart-openings"),
    path("<uuid:pk>/clause/", views.show_popover, name="chart-clause"),
    path("<uuid:pk>/explain/", views.explain, name="chart-explain"),
    path("<uuid:pk>/draft/", views.keep_draft, name="chart-draft"),
    path("<uuid:pk>/draft/drop/", views.drop_draft, name="chart-draft-drop"),
    path("<uuid:pk>/save/", views.save, name="chart-save"),
    path("<uuid:pk>/draft/merge/", views.bring_together, name="chart-draft-merge"),
    path("<uuid:pk>/draft/log/", views.show_log, name="chart-log"),
    path("<uuid:pk>/draft/states/<int:number>/", views.show_revision, name="chart-revision"),
    path("<uuid:pk>/live/", views.stream_events, name="chart-live"),
    path("<uuid:pk>/present/", views.present, name="chart-present"),
    path("<uuid:pk>/duplicate/", views.duplicate, name="chart-duplicate"),
    path("<uuid:pk>/delete/", views.delete, name="chart-delete"),
    path("<uuid:pk>/restore/", views.restore, name="chart-restore"),
    path("<uuid:pk>/rows/", views.show_underlying_rows, name="chart-rows"),
    path("<uuid:pk>/leads/", views.leads, name="chart-leads"),
    path("<uuid:pk>/grammar/", views.check_grammar, name="chart-grammar"),
    path("<uuid:pk>/rows.csv", views.download_rows, name="chart-rows-file"),
    path("<uuid:pk>/specification.json", views.download_specification, name="chart-specification"),
]
