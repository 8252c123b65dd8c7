"""Addresses of the network folder."""

from django.urls import re_path

from everyshelf.service.dav.views import DavView

urlpatterns = [re_path(r"^(?:/.*)?$", DavView.as_view())]
