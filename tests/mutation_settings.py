"""The settings of tests that pytest starts: manage.py alone tells them by its command."""

from veduta.web import installation

installation.TESTING = True

from veduta.web.settings import *  # noqa: E402, F403
