"""A link by which somebody sets a password, made at the machine itself: for the first admin, and when nobody can sign in."""

from typing import Any

from django.contrib.auth.models import User
from django.core.management.base import BaseCommand, CommandError, CommandParser

from watchtide.server.people import services
from watchtide.server.people.access import ADMIN, ANALYST, VIEWER
from watchtide.server.people.trail import Who
from watchtide.server.problems import Problem

WHO = Who(by="command line", address="")


class Command(BaseCommand):
    help = (
        "Print a link to set the password of an account: of a new one with --role, or of one that is there."
    )

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("name", help="what the account signs in as")
        parser.add_argument(
            "--role", choices=(VIEWER, ANALYST, ADMIN), help="make a new account of this role"
        )
        parser.add_argument("--at", default="", help="where the page is, such as https://tide.example")

    def handle(self, *args: Any, **options: Any) -> None:
        name = options["name"]
        try:
            if options["role"]:
                _, text = services.invite(WHO, name, "", options["role"])
            else:
                user = User.objects.filter(username=name).first()
                if user is None:
                    raise CommandError(f"there is no account {name}; make it with --role", returncode=2)
                _, text = services.new_link(WHO, user)
        except Problem as error:
            raise CommandError(f"{error.body['title']}; {error.body['remedy']}", returncode=2) from error
        self.stdout.write(f"{options['at'].rstrip('/')}/join#{text}")
