#!/usr/bin/env python
import sys

from django.core.management import execute_from_command_line

from veduta.web import installation

if __name__ == "__main__":
    installation.prepare()
    execute_from_command_line(sys.argv)
