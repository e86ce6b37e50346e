from django.urls import path

from veduta.web.dashboards import views

urlpatterns = [
    path("", views.dashboard_list, name="dashboards"),
    path("new/", views.new_dashboard, name="dashboard-new"),
    path("choices/", views.choices, name="dashboard-choices"),
    path("text/", views.text, name="dashboard-text"),
    path("<uuid:pk>/", views.dashboard, name="dashboard"),
    path("<uuid:pk>/blocks/", views.blocks, name="dashboard-blocks"),
    path("<uuid:pk>/blocks/<slug:block_id>/", views.block, name="dashboard-block"),
    path("<uuid:pk>/blocks/<slug:block_id>/rows/", views.rows, name="dashboard-rows"),
    path("<uuid:pk>/blocks/<slug:block_id>/rows.csv", views.rows_file, name="dashboard-rows-file"),
    path("<uuid:pk>/controls/<slug:control_id>/", views.control, name="dashboard-control"),
    path("<uuid:pk>/views/", views.keep_view, name="dashboard-keep-view"),
    path("<uuid:pk>/edit/", views.edit, name="dashboard-edit"),
    path("<uuid:pk>/change/", views.change, name="dashboard-change"),
    path("<uuid:pk>/draft/", views.save_draft, name="dashboard-draft"),
    path("<uuid:pk>/draft/copy/", views.copy_draft, name="dashboard-draft-copy"),
    path("<uuid:pk>/publish/", views.publish, name="dashboard-publish"),
    path("<uuid:pk>/versions/<int:number>/", views.bring_back, name="dashboard-bring-back"),
    path("<uuid:pk>/place/", views.place, name="dashboard-place"),
    path("<uuid:pk>/new-control/", views.new_control, name="dashboard-new-control"),
    path("<uuid:pk>/colours/", views.colours, name="dashboard-colours"),
    path("<uuid:pk>/duplicate/", views.duplicate, name="dashboard-duplicate"),
    path("<uuid:pk>/delete/", views.delete, name="dashboard-delete"),
    path("<uuid:pk>/restore/", views.restore, name="dashboard-restore"),
    path("<uuid:pk>/share/", views.share, name="dashboard-share"),
]
