"""The stand-in over HTTP. Every call names a space and needs a token; the token tells the person.

====================================  =============================================================
GET    /SPACE/objects                 every object without its body, and the package in force
GET    /SPACE/objects/NAME            the body of one
PUT    /SPACE/objects/NAME?type=T     a person changes one in the platform itself
DELETE /SPACE/objects/NAME            a person removes one
POST   /SPACE/export                  {"names": […]} as a package
PUT    /SPACE/packages/KEY            bring a package; nothing is in force yet
GET    /SPACE/packages/KEY            {"state": waiting, half, in force, replaced}
POST   /SPACE/packages/KEY/import     put it in force; may be asked again
DELETE /SPACE/packages/KEY            forget it
GET    /SPACE/trail                   what was written, oldest first
PUT    /SPACE/behaviour               {"slow": s, "late": s, "lost": true, "fail_after": n, "half_after": n, "times": n}
====================================  =============================================================

``slow``: every call takes that long. The others take place at the next import, ``times`` times: ``late`` does it and
answers that much later; ``lost`` does it and answers an error; ``fail_after`` stops after n objects and leaves none;
``half_after`` stops after n objects and leaves those.
"""

from __future__ import annotations

import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from flask import Flask, Response, abort, g, jsonify, request
from werkzeug.exceptions import HTTPException

from everyshelf.standin.packages import BadPackageError, packed
from everyshelf.standin.store import FailedInTheMiddleError, Store


def make_app(file: Path, tokens: Mapping[str, str]) -> Flask:
    """The platform that keeps its state in ``file``; ``tokens`` tells the person of each."""
    app, store = Flask("standin"), Store(file)

    @app.before_request
    def sign_in() -> None:
        if request.path == "/builds":
            return  # events are signed
        given = request.headers.get("Authorization", "").removeprefix("Bearer ")
        if request.authorization is not None and request.authorization.type == "basic":
            given = request.authorization.password or ""
        if given not in tokens:
            if request.path.startswith("/git/"):
                abort(Response("this token is not known here", 401, {"WWW-Authenticate": 'Basic realm="stand-in"'}))
            abort(401, "this token is not known here")
        g.person = tokens[given]
        space = (request.view_args or {}).get("space", "")
        if slow := store.behaviour(space).get("slow"):
            time.sleep(float(slow))

    @app.errorhandler(HTTPException)
    def said(error: HTTPException) -> Any:
        return jsonify(error=error.description), error.code

    @app.errorhandler(BadPackageError)
    def bad(error: BadPackageError) -> Any:
        return jsonify(error=str(error)), 422

    @app.errorhandler(FailedInTheMiddleError)
    def failed(error: FailedInTheMiddleError) -> Any:
        return jsonify(error=str(error)), 500

    _objects(app, store)
    _packages(app, store)
    return app


def _objects(app: Flask, store: Store) -> None:
    @app.get("/<space>/objects")
    def listing(space: str) -> Any:
        return jsonify(store.listing(space))

    @app.get("/<space>/objects/<path:name>")
    def read(space: str, name: str) -> Any:
        body = store.read(space, name)
        return Response(body, mimetype="application/octet-stream") if body is not None else abort(404, "no such object")

    @app.put("/<space>/objects/<path:name>")
    def write(space: str, name: str) -> Any:
        besides = store.write(space, name, request.args.get("type", "resource"), request.get_data(), g.person)
        return jsonify(besides=besides)

    @app.delete("/<space>/objects/<path:name>")
    def remove(space: str, name: str) -> Any:
        return ("", 204) if store.remove(space, name, g.person) else abort(404, "no such object")

    @app.get("/<space>/trail")
    def trail(space: str) -> Any:
        return jsonify(store.trail(space))

    @app.put("/<space>/behaviour")
    def behave(space: str) -> Any:
        store.behave(space, request.get_json())
        return "", 204


def _packages(app: Flask, store: Store) -> None:
    @app.post("/<space>/export")
    def export(space: str) -> Any:
        wanted = set(request.get_json()["names"])
        types = {o["name"]: o["type"] for o in store.listing(space)["objects"] if o["name"] in wanted}
        found = ((name, types[name], store.read(space, name) or b"") for name in sorted(types))
        return Response(packed(found), mimetype="application/zip")

    @app.put("/<space>/packages/<key>")
    def bring(space: str, key: str) -> Any:
        store.bring(space, key, request.get_data())
        return "", 204

    @app.get("/<space>/packages/<key>")
    def state(space: str, key: str) -> Any:
        found = store.package_state(space, key)
        return jsonify(state=found) if found else abort(404, "no such package")

    @app.delete("/<space>/packages/<key>")
    def forget(space: str, key: str) -> Any:
        store.forget(space, key)
        return "", 204

    @app.post("/<space>/packages/<key>/import")
    def put_in_force(space: str, key: str) -> Any:
        if store.package_state(space, key) is None:
            abort(404, "no such package")
        besides = store.import_package(space, key, g.person)
        if late := store.take_behaviour(space, "late"):
            time.sleep(float(late))
        if store.take_behaviour(space, "lost"):
            abort(503, "the answer was lost")
        return jsonify(besides=besides)
