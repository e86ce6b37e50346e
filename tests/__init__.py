"""Random tests never fail because the machine is slow."""

from hypothesis import HealthCheck, settings

settings.register_profile("veduta", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("veduta")
