from django.core.wsgi import get_wsgi_application

from veduta.web import installation

installation.prepare()
application = get_wsgi_application()
