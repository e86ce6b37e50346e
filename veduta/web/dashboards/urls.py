from django.urls import path

from veduta.web.dashboards import dressing, editing, views

urlpatterns = [
    path("", views.dashboard_list, name="dashboards"),
    path("new/", editing.new_dashboard, name="dashboard-new"),
    path("choices/", editing.choices, name="dashboard-choices"),
    path("text/", editing.text, name="dashboard-text"),
    path("<uuid:pk>/", views.dashboard, name="dashboard"),
    path("<uuid:pk>/blocks/", views.blocks, name="dashboard-blocks"),
    path("<uuid:pk>/blocks/<slug:block_id>/", views.block, name="dashboard-block"),
    path("<uuid:pk>/blocks/<slug:block_id>/address/", views.address, name="dashboard-address"),
    path("<uuid:pk>/blocks/<slug:block_id>/rows/", views.rows, name="dashboard-rows"),
    path("<uuid:pk>/blocks/<slug:block_id>/rows.csv", views.rows_file, name="dashboard-rows-file"),
    path("<uuid:pk>/controls/<slug:control_id>/", views.control, name="dashboard-control"),
    path("<uuid:pk>/views/", views.keep_view, name="dashboard-keep-view"),
    path("<uuid:pk>/edit/", editing.edit, name="dashboard-edit"),
    path("<uuid:pk>/change/", editing.change, name="dashboard-change"),
    path("<uuid:pk>/look/", dressing.look, name="dashboard-look"),
    path("<uuid:pk>/faces/", editing.faces, name="dashboard-faces"),
    path("<uuid:pk>/draft/", editing.save_draft, name="dashboard-draft"),
    path("<uuid:pk>/draft/copy/", editing.copy_draft, name="dashboard-draft-copy"),
    path("<uuid:pk>/publish/", editing.publish, name="dashboard-publish"),
    path("<uuid:pk>/versions/<int:number>/", editing.bring_back, name="dashboard-bring-back"),
    path("<uuid:pk>/place/", editing.place, name="dashboard-place"),
    path("<uuid:pk>/new-control/", editing.new_control, name="dashboard-new-control"),
    path("<uuid:pk>/colours/", editing.colours, name="dashboard-colours"),
    path("<uuid:pk>/duplicate/", editing.duplicate, name="dashboard-duplicate"),
    path("<uuid:pk>/delete/", editing.delete, name="dashboard-delete"),
    path("<uuid:pk>/restore/", editing.restore, name="dashboard-restore"),
    path("<uuid:pk>/share/", editing.share, name="dashboard-share"),
]
