from django.urls import path

from veduta.web.charts import views

urlpatterns = [
    path("", views.chart_list, name="charts"),
    path("new/", views.new_chart, name="chart-new"),
    path("<uuid:pk>/", views.workbench, name="chart"),
    path("<uuid:pk>/answer/", views.answer, name="chart-answer"),
    path("<uuid:pk>/openings/", views.other_openings, name="chart-openings"),
    path("<uuid:pk>/clause/", views.popover, name="chart-clause"),
    path("<uuid:pk>/explain/", views.explain, name="chart-explain"),
    path("<uuid:pk>/draft/", views.keep_draft, name="chart-draft"),
    path("<uuid:pk>/draft/drop/", views.drop_draft, name="chart-draft-drop"),
    path("<uuid:pk>/save/", views.save, name="chart-save"),
    path("<uuid:pk>/draft/merge/", views.bring_together, name="chart-draft-merge"),
    path("<uuid:pk>/draft/log/", views.log, name="chart-log"),
    path("<uuid:pk>/draft/states/<int:number>/", views.revision, name="chart-revision"),
    path("<uuid:pk>/live/", views.live, name="chart-live"),
    path("<uuid:pk>/present/", views.present, name="chart-present"),
    path("<uuid:pk>/duplicate/", views.duplicate, name="chart-duplicate"),
    path("<uuid:pk>/delete/", views.delete, name="chart-delete"),
    path("<uuid:pk>/restore/", views.restore, name="chart-restore"),
    path("<uuid:pk>/rows/", views.rows_behind, name="chart-rows"),
    path("<uuid:pk>/leads/", views.leads, name="chart-leads"),
    path("<uuid:pk>/grammar/", views.grammar, name="chart-grammar"),
    path("<uuid:pk>/rows.csv", views.rows_file, name="chart-rows-file"),
    path("<uuid:pk>/specification.json", views.specification, name="chart-specification"),
]
