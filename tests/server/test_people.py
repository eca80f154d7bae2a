"""Accounts: invited, given roles, disabled; sessions that end; passwords set by link, by oneself, from the machine."""

from datetime import timedelta
from io import StringIO

import pytest
from django.core.management import CommandError, call_command
from rest_framework.test import APIClient

from tests.server.conftest import signed_in
from watchtide.server import moments
from watchtide.server.people.models import AccountLink, AuditEntry, SignIn

PASSWORD = "six grey herons"


def visitor():
    client = APIClient(enforce_csrf_checks=True)
    client.get("/api/v1/session")
    client.credentials(HTTP_X_CSRFTOKEN=client.cookies["watchtide_csrf"].value)
    return client


def use(link, password=PASSWORD):
    return visitor().post("/api/v1/links/use", {"link": link, "password": password}, format="json")


def sign_in(name, password):
    return visitor().post("/api/v1/session", {"name": name, "password": password}, format="json")


def invite(admin, name="tam", role="viewer"):
    made = admin.post("/api/v1/people", {"name": name, "full_name": "Tam Keel", "role": role}, format="json")
    assert made.status_code == 201, made.content
    return made.json()


def person(admin, name):
    return next(p for p in admin.get("/api/v1/people").json()["items"] if p["name"] == name)


class TestInviting:
    def test_who_is_invited_sets_a_password_once_and_has_the_role(self, admin):
        made = invite(admin)
        assert made["person"]["state"] == "invited" and made["person"]["link_ends_at"]
        assert sign_in("tam", PASSWORD).status_code == 401
        found = visitor().post("/api/v1/links/look", {"link": made["link"]}, format="json").json()
        assert found["name"] == "tam" and found["purpose"] == "invitation"
        assert use(made["link"], "short").status_code == 400
        assert use(made["link"]).status_code == 204
        session = sign_in("tam", PASSWORD).json()
        assert session["name"] == "tam" and session["role"] == "viewer"
        assert person(admin, "tam")["state"] == "active"
        assert use(made["link"], "another long one").status_code == 410

    def test_only_the_digest_of_a_link_is_kept_and_it_runs_out(self, admin):
        made = invite(admin)
        row = AccountLink.objects.get()
        assert made["link"] not in str(row.__dict__) and len(row.digest) == 64
        AccountLink.objects.update(expires_at=moments.now() - timedelta(seconds=1))
        assert use(made["link"]).status_code == 410
        again = admin.post(f"/api/v1/people/{made['person']['id']}/link").json()
        assert again["purpose"] == "invitation" and use(again["link"]).status_code == 204

    def test_a_new_link_ends_the_earlier(self, admin):
        made = invite(admin)
        admin.post(f"/api/v1/people/{made['person']['id']}/link")
        assert use(made["link"]).status_code == 410

    @pytest.mark.parametrize("name", ["", "a b", "x" * 151, "<b>", "a/b"])
    def test_a_name_that_cannot_stand_is_refused(self, admin, name):
        assert (
            admin.post("/api/v1/people", {"name": name, "role": "viewer"}, format="json").status_code == 400
        )

    def test_a_name_that_is_taken_is_refused_whatever_its_case(self, admin):
        answer = admin.post("/api/v1/people", {"name": "ANN", "role": "viewer"}, format="json")
        assert answer.status_code == 409 and "another name" in answer.json()["remedy"]


class TestRoles:
    def test_a_role_is_in_force_with_the_next_request(self, admin, api):
        vic = signed_in("vic")
        assert vic.post("/api/v1/logbook", {}, format="json").status_code == 403
        pk = person(admin, "vic")["id"]
        assert (
            admin.patch(f"/api/v1/people/{pk}", {"role": "analyst"}, format="json").json()["role"]
            == "analyst"
        )
        assert vic.post("/api/v1/logbook", {}, format="json").status_code == 400
        entry = AuditEntry.objects.latest("pk")
        assert (
            entry.what == "role changed" and entry.subject == "vic: viewer to analyst" and entry.by == "ada"
        )

    def test_nobody_changes_their_own_role_and_the_last_admin_stays(self, admin):
        own = person(admin, "ada")["id"]
        assert admin.patch(f"/api/v1/people/{own}", {"role": "viewer"}, format="json").status_code == 409
        made = invite(admin, "second", "admin")
        use(made["link"])
        second = visitor()
        second.post("/api/v1/session", {"name": "second", "password": PASSWORD}, format="json")
        second.credentials(HTTP_X_CSRFTOKEN=second.cookies["watchtide_csrf"].value)
        assert second.patch(f"/api/v1/people/{own}", {"is_active": False}, format="json").status_code == 200
        # Now the second is the last: no other admin is left who could, and the service refuses by itself.
        from django.contrib.auth.models import User

        from watchtide.server.people import services
        from watchtide.server.problems import Problem

        with pytest.raises(Problem, match="last admin"):
            services.set_role({"by": "", "address": ""}, User.objects.get(username="second"), "viewer")

    def test_a_token_looks_after_no_accounts(self, small_world, db):
        from django.contrib.auth.models import User

        from watchtide.server.people.access import make_token

        _, text = make_token(User.objects.get(username="ada"), "all", ["read", "write"])
        client = APIClient()
        client.credentials(HTTP_AUTHORIZATION=f"Bearer {text}")
        for path in ("people", "sessions", "trail"):
            assert client.get(f"/api/v1/{path}").status_code == 403

    def test_an_admin_makes_a_token_for_another_and_an_analyst_does_not(self, admin, api):
        body = {"name": "relay", "scopes": ["push"], "owner": "vic"}
        assert api.post("/api/v1/tokens", body, format="json").status_code == 403
        made = admin.post("/api/v1/tokens", body, format="json").json()
        assert made["owner"] == "vic"
        assert made["id"] in {t["id"] for t in signed_in("vic").get("/api/v1/tokens").json()["items"]}
        assert admin.post("/api/v1/tokens", {**body, "owner": "nobody"}, format="json").status_code == 400


class TestDisabling:
    def test_who_is_disabled_is_out_at_once_with_sessions_tokens_and_links(self, admin):
        vic = signed_in("vic")
        token = vic.post("/api/v1/tokens", {"name": "t", "scopes": ["read"]}, format="json").json()["text"]
        script = APIClient()
        script.credentials(HTTP_AUTHORIZATION=f"Bearer {token}")
        pk = person(admin, "vic")["id"]
        link = admin.post(f"/api/v1/people/{pk}/link").json()["link"]
        assert vic.get("/api/v1/tide").status_code == 200 and script.get("/api/v1/tide").status_code == 200
        row = admin.patch(f"/api/v1/people/{pk}", {"is_active": False}, format="json").json()
        assert row["state"] == "disabled" and row["disabled_at"] and row["sessions"] == 0
        assert vic.get("/api/v1/tide").status_code == 401 and script.get("/api/v1/tide").status_code == 401
        assert use(link).status_code == 410 and sign_in("vic", "correct horse").status_code == 401
        assert admin.post(f"/api/v1/people/{pk}/link").status_code == 409
        admin.patch(f"/api/v1/people/{pk}", {"is_active": True}, format="json")
        assert sign_in("vic", "correct horse").status_code == 200
        assert vic.get("/api/v1/tide").status_code == 401, "a session that was ended stays so"

    def test_an_invitation_is_taken_back_and_made_again(self, admin):
        made = invite(admin)
        pk = made["person"]["id"]
        assert (
            admin.patch(f"/api/v1/people/{pk}", {"is_active": False}, format="json").json()["state"]
            == "disabled"
        )
        assert use(made["link"]).status_code == 410
        assert (
            admin.patch(f"/api/v1/people/{pk}", {"is_active": True}, format="json").json()["state"]
            == "invited"
        )
        assert use(admin.post(f"/api/v1/people/{pk}/link").json()["link"]).status_code == 204


class TestSessions:
    def test_ones_sessions_are_listed_and_ended_one_by_one_or_all_but_this(self, small_world, db):
        here, there, phone = (signed_in("ann") for _ in range(3))
        rows = here.get("/api/v1/sessions").json()["items"]
        assert len(rows) == 3 and [r["is_this"] for r in rows].count(True) == 1
        other = next(r for r in there.get("/api/v1/sessions").json()["items"] if r["is_this"])
        assert here.delete(f"/api/v1/sessions/{other['id']}").status_code == 204
        assert there.get("/api/v1/tide").status_code == 401 and phone.get("/api/v1/tide").status_code == 200
        assert here.delete("/api/v1/sessions").status_code == 204
        assert phone.get("/api/v1/tide").status_code == 401 and here.get("/api/v1/tide").status_code == 200

    def test_nobody_ends_anothers_session_but_an_admin_ends_all(self, admin):
        vic, ann = signed_in("vic"), signed_in("ann")
        row = vic.get("/api/v1/sessions").json()["items"][0]
        assert ann.delete(f"/api/v1/sessions/{row['id']}").status_code == 404
        pk = person(admin, "vic")["id"]
        assert admin.delete(f"/api/v1/people/{pk}/sessions").status_code == 204
        assert vic.get("/api/v1/tide").status_code == 401 and ann.get("/api/v1/tide").status_code == 200

    def test_a_session_that_is_not_used_ends_and_one_that_is_does_not(self, api, settings):
        settings.SESSION_IDLE_MINUTES = 30
        SignIn.objects.update(last_seen_at=moments.now() - timedelta(minutes=29))
        assert api.get("/api/v1/tide").status_code == 200
        assert moments.now() - SignIn.objects.latest("pk").last_seen_at < timedelta(minutes=1)
        SignIn.objects.update(last_seen_at=moments.now() - timedelta(minutes=31))
        assert api.get("/api/v1/tide").status_code == 401
        settings.SESSION_IDLE_MINUTES = 600
        assert api.get("/api/v1/tide").status_code == 401, "what has ended stays so"

    def test_the_key_of_a_session_is_kept_as_a_digest_only(self, api):
        key = api.cookies["watchtide_session"].value
        row = SignIn.objects.latest("pk")
        assert key not in str(row.__dict__) and row.address == "127.0.0.1"

    def test_signing_out_ends_it(self, api):
        key = api.cookies["watchtide_session"].value
        assert api.delete("/api/v1/session").status_code == 204
        api.cookies["watchtide_session"] = key
        assert api.get("/api/v1/tide").status_code == 401


class TestPasswords:
    def test_ones_own_is_changed_with_the_present_one_and_every_other_session_ends(self, small_world, db):
        here, there = signed_in("ann"), signed_in("ann")
        body = {"old": "wrong", "new": PASSWORD}
        assert here.put("/api/v1/session/password", body, format="json").status_code == 403
        assert AuditEntry.objects.latest("pk").what == "sign-in failed"
        assert (
            here.put(
                "/api/v1/session/password", {"old": "correct horse", "new": "short"}, format="json"
            ).status_code
            == 400
        )
        body["old"] = "correct horse"
        assert here.put("/api/v1/session/password", body, format="json").status_code == 204
        assert here.get("/api/v1/tide").status_code == 200 and there.get("/api/v1/tide").status_code == 401
        assert (
            sign_in("ann", "correct horse").status_code == 401 and sign_in("ann", PASSWORD).status_code == 200
        )

    def test_a_forgotten_one_is_set_by_a_link_from_an_admin(self, admin):
        vic = signed_in("vic")
        made = admin.post(f"/api/v1/people/{person(admin, 'vic')['id']}/link").json()
        assert made["purpose"] == "password" and use(made["link"]).status_code == 204
        assert vic.get("/api/v1/tide").status_code == 401
        assert sign_in("vic", PASSWORD).status_code == 200

    def test_or_by_one_made_at_the_machine_which_also_makes_the_first_admin(self, small_world, db):
        out = StringIO()
        call_command("account_link", "vic", "--at", "https://tide.example/", stdout=out)
        address, _, link = out.getvalue().strip().partition("#")
        assert address == "https://tide.example/join" and use(link).status_code == 204
        out = StringIO()
        call_command("account_link", "root2", "--role", "admin", stdout=out)
        assert use(out.getvalue().strip().partition("#")[2]).status_code == 204
        assert sign_in("root2", PASSWORD).json()["role"] == "admin"
        assert AuditEntry.objects.filter(what="invited", by="command line").exists()
        with pytest.raises(CommandError, match="make it with --role"):
            call_command("account_link", "nobody")


class TestPaging:
    def test_pages_hold_every_row_once_while_new_ones_come(self, admin):
        AuditEntry.objects.bulk_create([AuditEntry(what="tried", subject=str(i)) for i in range(25)])
        seen, cursor = [], ""
        while cursor is not None:
            page = admin.get("/api/v1/trail", {"what": "tried", "limit": 10, "cursor": cursor}).json()
            seen += [r["subject"] for r in page["items"]]
            cursor = page["next"]
            AuditEntry.objects.create(what="tried", subject="late")
        assert seen == [str(i) for i in reversed(range(25))]

    # In turn: no base64, none, null, an empty list, an object, two texts.
    @pytest.mark.parametrize("cursor", ["x", "²", "bnVsbA", "W10", "eyJhIjoxfQ", "WyJhIiwiYiJd"])
    def test_a_cursor_that_is_none_of_ours_is_refused_by_every_list(self, admin, cursor):
        for path in (
            "trail",
            "batches",
            "catalogue",
            "jobs",
            "incidents",
            "logbook",
            "plans",
            "logbook/quiet",
        ):
            answer = admin.get(f"/api/v1/{path}", {"cursor": cursor})
            assert answer.status_code == 400 and answer.json()["place"] == "cursor", path

    @pytest.mark.parametrize("limit", ["0", "-1", "1001", "many"])
    def test_a_limit_out_of_bounds_is_refused(self, api, limit):
        assert api.get("/api/v1/batches", {"limit": limit}).status_code == 400
