from django.urls import path

from veduta.web.modelling import views

urlpatterns = [
    path("<uuid:pk>/model/", views.model, name="model"),
    path("<uuid:pk>/model/change/", views.model_change, name="model-change"),
    path("<uuid:pk>/model/number/", views.model_number, name="model-number"),
    path("<uuid:pk>/model/back/<int:number>/", views.model_back, name="model-back"),
    path("<uuid:pk>/model/formulas/", views.model_formula, name="model-formula-new"),
    path("<uuid:pk>/model/formulas/save/", views.model_formula_save, name="model-formula-save"),
    path("<uuid:pk>/model/formulas/check/", views.model_formula_check, name="model-formula-check"),
    path("<uuid:pk>/model/formulas/<slug:formula_id>/", views.model_formula, name="model-formula"),
]
