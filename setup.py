"""What the package holds beside Python: the page and the guide, where they have been built (`./run docs` builds both)."""

from pathlib import Path

from setuptools import setup
from setuptools.command.build_py import build_py

ROOT = Path(__file__).parent
BUILT = ("dist", "guide")


class WithPage(build_py):
    """Copies what is built of the page to where the server looks for it; an editable install takes it from where it lies."""

    def run(self) -> None:
        super().run()
        for name in BUILT:
            folder = ROOT / "web" / name
            if folder.is_dir() and not self.editable_mode:
                self.copy_tree(str(folder), str(Path(self.build_lib, "watchtide", "server", "built", name)))


setup(cmdclass={"build_py": WithPage})
