from typing import Any

import pytest

from builders.source import NOW
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.package import Base, Package, PackageFile
from fundamen.sources.catalogue import ListedCatalogue, Source
from fundamen.sources.offers import Offer, find_offers

FILE = PackageFile("libx.so.1", Base.PROGRAM, "lib/libx.so.1.2", 1, "0" * 64)


def a_package(version: str = "1.0", architecture: Architecture = Architecture.X86_64, **facts: Any) -> Package:
    return Package("Ardvane", "Saltgrass", version, Platform.LINUX, architecture, (FILE,), **facts)


def offers(
    *packages: Package, name: str = "libx.so.1", in_place: tuple[tuple[str, str], ...] = ()
) -> tuple[Offer, ...]:
    catalogue = ListedCatalogue(Source("it", "/source", "0" * 64, NOW), packages, NOW)
    return find_offers([catalogue], (name,), Platform.LINUX, Architecture.X86_64, in_place)


@pytest.mark.parametrize(
    ("package", "obstacle"),
    [
        (a_package(withdrawn="leaks"), "withdrawn: leaks"),
        (a_package(architecture=Architecture.X86), "is for x86, not x86_64"),
        (a_package(language="de"), "is the package for the language de, not the neutral one"),
    ],
)
def test_an_offer_that_may_not_be_used_says_why(package: Package, obstacle: str) -> None:
    [offer] = offers(package)
    assert (offer.is_eligible, offer.obstacle) == (False, obstacle)


def test_the_newest_version_that_may_be_used_comes_first() -> None:
    found = offers(a_package("9.0"), a_package("10.0"), a_package("11.0", withdrawn="leaks"), a_package("odd name"))
    assert [offer.package.version for offer in found] == ["10.0", "9.0", "odd name", "11.0"]


def test_versions_of_one_package_are_not_mixed() -> None:
    found = offers(a_package("1.0"), a_package("2.0"), in_place=(("Saltgrass", "1.0"),))
    assert [(o.package.version, o.is_eligible) for o in found] == [("1.0", True), ("2.0", False)]


@pytest.mark.parametrize("name", ["LIBX.so.1", "libx.so.1.2"])
def test_a_component_is_known_by_its_own_name_and_its_file_name(name: str) -> None:
    assert len(offers(a_package(), name=name)) == 1
    assert offers(a_package(), name="lib/libx.so.1.2") == ()
