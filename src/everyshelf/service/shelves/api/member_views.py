"""People of a shelf, and inviting more."""

from __future__ import annotations

from typing import Any

from django.contrib.auth import login
from django.urls import path
from django.utils import timezone
from drf_spectacular.utils import extend_schema
from rest_framework import permissions, serializers
from rest_framework.response import Response

from everyshelf.service.base.acts import one_act
from everyshelf.service.http.views import ApiView, valid
from everyshelf.service.people import actions, invitations
from everyshelf.service.people.api import Person, person_json
from everyshelf.service.people.models import Invitation, Membership, Role
from everyshelf.service.shelves.api.base import ShelfView


class MemberIn(serializers.Serializer[Any]):
    """A person's role."""

    person = serializers.CharField()
    role = serializers.CharField()


class MemberOut(serializers.Serializer[Any]):
    """A person with a role on a shelf."""

    person = serializers.CharField()
    full_name = serializers.CharField()
    role = serializers.ChoiceField(Role.values)


class NewInvitation(serializers.Serializer[Any]):
    """Whom to invite (in words, for your own list), as what, and how long it holds."""

    role = serializers.CharField()
    note = serializers.CharField(required=False, default="", allow_blank=True, max_length=150)
    days = serializers.IntegerField(required=False, default=7)


class InvitationOut(serializers.Serializer[Any]):
    """An invitation without its secret."""

    id = serializers.CharField()
    role = serializers.ChoiceField(Role.values)
    note = serializers.CharField()
    state = serializers.ChoiceField(["open", "accepted", "withdrawn", "expired"])
    created = serializers.DateTimeField()
    created_by = serializers.CharField()
    expires = serializers.DateTimeField()
    accepted_by = serializers.CharField(allow_null=True)


class InvitationMade(InvitationOut):
    """A new invitation with its secret, shown this once; ``/join#SECRET`` of the console takes it."""

    value = serializers.CharField()


class InvitationIn(serializers.Serializer[Any]):
    """The secret of an invitation."""

    invitation = serializers.CharField(max_length=200)


class InvitationSeen(serializers.Serializer[Any]):
    """What an invitation offers."""

    shelf = serializers.CharField()
    shelf_name = serializers.CharField()
    role = serializers.CharField()
    by = serializers.CharField()
    expires = serializers.DateTimeField()


class AcceptIn(InvitationIn):
    """Accepting an invitation: as the signed-in person, or as a new one with a name and password."""

    name = serializers.CharField(required=False, default="", allow_blank=True, max_length=150)
    full_name = serializers.CharField(required=False, default="", allow_blank=True, max_length=150)
    password = serializers.CharField(
        required=False, default="", allow_blank=True, max_length=1000, trim_whitespace=False
    )


class Joined(serializers.Serializer[Any]):
    """Who joined which shelf."""

    person = Person()
    shelf = serializers.CharField()
    role = serializers.CharField()


def member_json(member: Membership) -> dict[str, Any]:
    """A membership's public form."""
    told = person_json(member.person)
    return {"person": told["name"], "full_name": told["full_name"], "role": member.role}


def invitation_json(found: Invitation) -> dict[str, Any]:
    """An invitation's public form."""
    state = (
        "accepted"
        if found.accepted
        else "withdrawn"
        if found.withdrawn
        else "expired"
        if found.expires <= timezone.now()
        else "open"
    )
    return {
        "id": found.uid,
        "role": found.role,
        "note": found.note,
        "state": state,
        "created": found.created,
        "created_by": found.created_by.username,
        "expires": found.expires,
        "accepted_by": found.accepted_by.username if found.accepted_by else None,
    }


class MembersView(ShelfView):
    """People of a shelf."""

    @extend_schema(operation_id="members_list", responses=MemberOut(many=True))
    def get(self, request: Any, shelf: str) -> Response:
        """List the members of a shelf, owners first."""
        _, found = self.shelf(request, shelf)
        return Response([member_json(m) for m in actions.list_members(found)])

    @extend_schema(operation_id="members_set", request=MemberIn, responses=MemberOut)
    def put(self, request: Any, shelf: str) -> Response:
        """Set the role of a person on a shelf."""
        caller, found = self.shelf(request, shelf)
        values = valid(MemberIn, request)
        return Response(member_json(actions.set_member(caller, found, values["person"], values["role"])))


class MemberView(ShelfView):
    """One person of a shelf."""

    @extend_schema(operation_id="members_remove", responses={204: None})
    def delete(self, request: Any, shelf: str, name: str) -> Response:
        """Remove a person from a shelf; everyone may remove themselves."""
        caller, found = self.shelf(request, shelf)
        actions.remove_member(caller, found, name)
        return Response(status=204)


class InvitationsView(ShelfView):
    """Invitations to a shelf."""

    @extend_schema(operation_id="invitations_list", responses=InvitationOut(many=True))
    def get(self, request: Any, shelf: str) -> Response:
        """List invitations, newest first."""
        caller, found = self.shelf(request, shelf)
        return Response([invitation_json(i) for i in invitations.list_invitations(caller, found)])

    @extend_schema(operation_id="invitations_make", request=NewInvitation, responses={201: InvitationMade})
    def post(self, request: Any, shelf: str) -> Response:
        """Make an invitation; its secret is shown only once."""
        caller, found = self.shelf(request, shelf)
        values = valid(NewInvitation, request)
        made, value = invitations.invite(caller, found, values["role"], values["note"], values["days"])
        return Response({**invitation_json(made), "value": value}, status=201)


class InvitationView(ShelfView):
    """One invitation."""

    @extend_schema(operation_id="invitations_withdraw", responses={204: None})
    def delete(self, request: Any, shelf: str, uid: str) -> Response:
        """Withdraw an invitation."""
        caller, found = self.shelf(request, shelf)
        invitations.withdraw(caller, found, uid)
        return Response(status=204)


class LookView(ApiView):
    """Looking at an invitation one holds."""

    looks = True
    permission_classes = [permissions.AllowAny]

    @extend_schema(operation_id="invitations_look", request=InvitationIn, responses=InvitationSeen)
    def post(self, request: Any) -> Response:
        """Show what an invitation offers. The secret is in the body, so that no log of addresses contains it."""
        found = invitations.find_invitation(valid(InvitationIn, request)["invitation"])
        return Response(
            {
                "shelf": found.shelf.key,
                "shelf_name": found.shelf.name,
                "role": found.role,
                "by": person_json(found.created_by)["full_name"],
                "expires": found.expires,
            }
        )


class AcceptView(ApiView):
    """Taking an invitation up."""

    permission_classes = [permissions.AllowAny]

    @extend_schema(operation_id="invitations_accept", request=AcceptIn, responses={201: Joined})
    def post(self, request: Any) -> Response:
        """Accept an invitation, as the signed-in person or as a new one, who is signed in by this."""
        values = valid(AcceptIn, request)
        known = request.user if request.user.is_authenticated else None
        found = invitations.accept(values["invitation"], known, values["name"], values["full_name"], values["password"])
        if known is None:
            with one_act():
                login(request._request, found.accepted_by)
        told = {"person": person_json(found.accepted_by), "shelf": found.shelf.key, "role": found.role}
        return Response(told, status=201)


_S = "shelves/<str:shelf>"
urlpatterns = [
    path(f"{_S}/members", MembersView.as_view()),
    path(f"{_S}/members/<str:name>", MemberView.as_view()),
    path(f"{_S}/invitations", InvitationsView.as_view()),
    path(f"{_S}/invitations/<str:uid>", InvitationView.as_view()),
    path("invitations/look", LookView.as_view()),
    path("invitations/accept", AcceptView.as_view()),
]
