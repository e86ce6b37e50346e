"""How hard random tests try, and that they ask the same questions each time, so that a green suite stays green.

VEDUTA_EFFORT is "quick", "mutate", "nightly" or "fuzz"; without it, what a commit deserves. Only `make fuzz` draws new
examples. `make mutate` wants to know that a test fails, not the smallest example. None fails because the machine is
slow."""

import os

from hypothesis import HealthCheck, Phase, settings
from hypothesis.internal.conjecture import providers

EFFORT = os.environ.get("VEDUTA_EFFORT", "")
SHARES = {"quick": 0.1, "mutate": 0.1, "": 1 / 3, "nightly": 1, "fuzz": 5}
FUZZING = EFFORT == "fuzz"
NIGHTLY = EFFORT in ("nightly", "fuzz")


def count_cases(most: int) -> int:
    """How many of so many random cases are tried now."""
    return max(round(most * SHARES[EFFORT]), 5)


def examples(most: int) -> settings:
    """Settings of a random test that deserves so many examples a night."""
    return settings(max_examples=count_cases(most))


shared = {"deadline": None, "suppress_health_check": [HealthCheck.too_slow], "max_examples": count_cases(100)}
if EFFORT == "mutate":
    shared["phases"] = [Phase.explicit, Phase.generate]
settings.register_profile("fixed", derandomize=True, database=None, **shared)
settings.register_profile("fuzz", derandomize=False, print_blob=True, **shared)
settings.load_profile("fuzz" if FUZZING else "fixed")
if not FUZZING:
    # Otherwise constants are drawn from whatever modules are loaded, and a test alone has other examples than in the
    # whole suite.
    providers._get_local_constants = lambda: providers._local_constants
