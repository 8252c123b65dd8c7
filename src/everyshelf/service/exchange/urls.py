"""Addresses of the repository that a shelf is."""

from django.urls import path

from everyshelf.service.exchange.smart_http import ReceivePack, Refs, UploadPack

urlpatterns = [
    path("<str:shelf>.git/info/refs", Refs.as_view()),
    path("<str:shelf>.git/git-upload-pack", UploadPack.as_view()),
    path("<str:shelf>.git/git-receive-pack", ReceivePack.as_view()),
]
