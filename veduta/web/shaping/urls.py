from django.urls import path

from veduta.web.shaping import views

urlpatterns = [
    path("<uuid:pk>/shape/", views.show_shaping, name="shape"),
    path("<uuid:pk>/table/", views.show_exploration, name="shape-explore"),
    path("<uuid:pk>/shape/look/", views.look, name="shape-look"),
    path("<uuid:pk>/shape/rows/", views.group_rows, name="shape-rows"),
    path("<uuid:pk>/shape/failures/", views.show_failures, name="shape-failures"),
    path("<uuid:pk>/shape/formula/", views.check_formula, name="shape-formula"),
    path("<uuid:pk>/shape/apply/", views.apply, name="shape-apply"),
    path("<uuid:pk>/shape/discard/", views.discard, name="shape-discard"),
    path("<uuid:pk>/shape/derive/", views.derive, name="shape-derive"),
    path("<uuid:pk>/shape/duplicate/", views.duplicate, name="shape-duplicate"),
    path("formulas/", views.show_formula_reference, name="formula-reference"),
]
