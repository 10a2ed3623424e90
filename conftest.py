"""Where the examples in the code run: those of the use cases ask the sample site."""

import pytest

from ovek.demo import write_site


@pytest.fixture
def sample(tmp_path_factory):
    """A folder with the sample site in it, as it is at first."""
    folder = tmp_path_factory.mktemp("sample")
    write_site(folder / "skerrow-ferries")
    return folder


@pytest.fixture(autouse=True)
def beside_the_sample(request, monkeypatch):
    """Run the examples of `ovek.app` where the sample lies."""
    if isinstance(request.node, pytest.DoctestItem) and request.node.name.startswith("ovek.app."):
        monkeypatch.chdir(request.getfixturevalue("sample"))
