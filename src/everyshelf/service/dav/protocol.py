"""The protocol, as WsgiDAV speaks it, over ``folders`` and ``locks``."""

from __future__ import annotations

import functools
from typing import Any

from wsgidav.error_printer import ErrorPrinter
from wsgidav.http_authenticator import HTTPAuthenticator
from wsgidav.request_resolver import RequestResolver
from wsgidav.wsgidav_app import WsgiDAVApp

from everyshelf.service.dav.folders import ShelfFolders
from everyshelf.service.dav.locks import RecordedLocks

MOUNT = "/dav"


@functools.cache
def dav_app() -> Any:
    """The application; who asks is known before it is called (``environ[folders.CALLER]``)."""
    return WsgiDAVApp(
        {
            "provider_mapping": {"/": ShelfFolders()},
            "mount_path": MOUNT,
            "lock_storage": RecordedLocks(),
            "property_manager": True,
            "mutable_live_props": ["{DAV:}getlastmodified"],
            "http_authenticator": {"accept_basic": True, "accept_digest": False, "default_to_digest": False},
            "simple_dc": {"user_mapping": {"*": True}},  # who asks is signed in already
            "middleware_stack": [ErrorPrinter, HTTPAuthenticator, RequestResolver],
            "suppress_version_info": True,
            "logging": {"enable": False},
            "verbose": 0,
        }
    )
