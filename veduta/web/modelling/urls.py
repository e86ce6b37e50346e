from django.urls import path

from veduta.web.modelling import views

urlpatterns = [
    path("<uuid:pk>/model/", views.show_model, name="model"),
    path("<uuid:pk>/model/change/", views.change_model, name="model-change"),
    path("<uuid:pk>/model/number/", views.make_number_parameter, name="model-number"),
    path("<uuid:pk>/model/back/<int:number>/", views.restore_model, name="model-back"),
    path("<uuid:pk>/model/formulas/", views.show_formula, name="model-formula-new"),
    path("<uuid:pk>/model/formulas/save/", views.save_formula, name="model-formula-save"),
    path("<uuid:pk>/model/formulas/check/", views.check_formula, name="model-formula-check"),
    path("<uuid:pk>/model/formulas/<slug:formula_id>/", views.show_formula, name="model-formula"),
]
