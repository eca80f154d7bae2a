"""The command line called in this process."""

import sys

import pytest

from watchtide.cli.main import main


@pytest.fixture
def command(monkeypatch, capsys):
    """(status, standard output, standard error) of a command run in a folder."""

    def run(folder, *arguments):
        monkeypatch.chdir(folder)
        monkeypatch.setattr(sys, "argv", ["watchtide", *map(str, arguments)])
        with pytest.raises(SystemExit) as ended:
            main()
        out, err = capsys.readouterr()
        return ended.value.code or 0, out, err

    return run
