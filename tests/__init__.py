"""Random tests ask the same questions each time, so that a green suite stays green, and never fail because the machine
is slow. `make fuzz` asks others, many more of them: VEDUTA_FUZZ says how many times as many."""

import os

from hypothesis import HealthCheck, settings

QUICK = bool(os.environ.get("VEDUTA_QUICK"))
FUZZ = int(os.environ.get("VEDUTA_FUZZ") or 0)
shared = {"deadline": None, "suppress_health_check": [HealthCheck.too_slow]}
settings.register_profile("fixed", derandomize=True, database=None, **shared)
settings.register_profile("fuzz", derandomize=False, print_blob=True, **shared)
settings.load_profile("fuzz" if FUZZ else "fixed")


def examples(count: int) -> settings:
    """So many random examples in the suite, a tenth in a quick run, and more in a long one."""
    return settings(max_examples=max(count // 10, 5) if QUICK else count * max(FUZZ, 1))
