"""Real servers on loopback are the truth: a directory, a web server that refuses links, an interpreter's modules."""

import os
import shutil
import subprocess
import urllib.error
import urllib.request
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import msgspec
import pytest

from builders.served import a_free_port, served
from conftest import Fundamen
from fundamen.machine.opening import open_machine
from fundamen.messages import say
from fundamen.prerequisites.all_kinds import AnyRequirement
from fundamen.prerequisites.answer import Answer
from fundamen.prerequisites.checking import check_requirements
from fundamen.prerequisites.requirement import CheckContext
from wording import says

pytestmark = pytest.mark.system

SLAPD = """\
include /etc/ldap/schema/core.schema
modulepath /usr/lib/ldap
moduleload back_mdb
pidfile {folder}/slapd.pid
database mdb
suffix "dc=marram,dc=example"
directory {folder}/data
"""
ENTRIES = """\
dn: dc=marram,dc=example
objectClass: organization
objectClass: dcObject
dc: marram
o: marram

dn: cn=authority,dc=marram,dc=example
objectClass: device
cn: authority
owner: cn=localhost,dc=marram,dc=example
serialNumber: 4

dn: cn=orphan,dc=marram,dc=example
objectClass: device
cn: orphan
owner: cn=no-such-host.invalid,dc=marram,dc=example
"""
NGINX = """\
pid {folder}/nginx.pid;
error_log {folder}/error.log;
daemon off;
master_process off;
events {{}}
http {{
  access_log off;
  client_body_temp_path {folder}; proxy_temp_path {folder}; fastcgi_temp_path {folder};
  uwsgi_temp_path {folder}; scgi_temp_path {folder};
  server {{ listen 127.0.0.1:{port}; root {folder}/www; disable_symlinks on; }}
}}
"""


def answer(kind: str, *, may_run: bool = False, **facts: Any) -> Answer:
    machine = open_machine(None, environment=dict(os.environ), current=os.getcwd())
    requirement = msgspec.convert({"id": "it", "kind": kind, **facts}, AnyRequirement)
    asked = CheckContext(machine=machine, now=datetime.now(UTC), may_run=may_run)
    [checked] = check_requirements([requirement], asked).checked
    return checked.answer


@pytest.mark.filterwarnings("ignore:(tag|type)Map is deprecated:DeprecationWarning")  # of the library's own library
def test_an_entry_of_a_real_directory_its_attributes_and_its_host(tmp_path: Path) -> None:
    (tmp_path / "data").mkdir()
    (tmp_path / "slapd.conf").write_text(SLAPD.format(folder=tmp_path))
    (tmp_path / "entries.ldif").write_text(ENTRIES)
    slapd, port = shutil.which("slapd", path="/usr/sbin:/usr/bin") or "", a_free_port()
    config = ["-f", str(tmp_path / "slapd.conf")]
    add = [slapd, "-Ta", *config, "-l", str(tmp_path / "entries.ldif")]
    subprocess.run(add, check=True, capture_output=True)
    facts: dict[str, Any] = {"server": "127.0.0.1", "port": port, "entry": "cn=authority,dc=marram,dc=example"}
    with served(port, slapd, *config, "-h", f"ldap://127.0.0.1:{port}", "-d", "0"):
        assert answer("directory entry", **facts, has={"serialNumber": "4", "owner": ""}).standing == "met"
        assert answer("directory entry", **facts, has={"serialNumber": "5"}).found == say(
            "prerequisites.its-is", name="serialNumber", values="4"
        )
        assert answer("directory entry", **facts, has={"seeAlso": ""}).found == say(
            "prerequisites.it-has-no", name="seeAlso"
        )
        host = answer("directory entry", **facts, host_in="owner", host_port=port)
        assert (host.standing, host.found) == ("met", f"its host localhost answers at port {port}")
        assert answer("directory entry", **facts, host_in="owner", host_port=a_free_port()).standing == "unmet"
        assert answer("directory entry", **facts, host_in="seeAlso").found == say(
            "directories.it-names-no-host-it-has", attribute="seeAlso"
        )
        orphan = {**facts, "entry": "cn=orphan,dc=marram,dc=example"}
        found = answer("directory entry", **orphan, host_in="owner").found
        assert says(found, "directories.its-host-does-not-answer", host="no-such-host.invalid")
        gone = answer("directory entry", **{**facts, "entry": "cn=gone,dc=marram,dc=example"})
        assert (gone.standing, gone.found) == (
            "unmet",
            say(
                "prerequisites.there-is-no-such-entry",
                nearest=say("certificate_authorities.the-last-one-above-it-is", nearest="dc=marram,dc=example"),
            ),
        )
    assert answer("directory entry", **facts).standing == "unmet"


def test_links_that_a_web_server_refuses_become_copies_that_it_serves(fundamen: Fundamen, tmp_path: Path) -> None:
    www, port = tmp_path / "www", a_free_port()
    www.mkdir()
    (tmp_path / "page").write_text("tides")
    (www / "page").symlink_to(tmp_path / "page")
    (tmp_path / "nginx.conf").write_text(NGINX.format(folder=tmp_path, port=port))
    top = 'schema = "fundamen.sheet/1"\nname = "Pages"\nprogram = "/usr/bin/env"\n'
    links = f'[[requirement]]\nid = "links"\nkind = "links"\nfolder = "{www}"\nnone = true\n'
    (tmp_path / "sheet.toml").write_text(top + links)
    nginx = shutil.which("nginx", path="/usr/sbin:/usr/bin") or ""
    with served(port, nginx, "-c", str(tmp_path / "nginx.conf"), "-p", str(tmp_path)):
        with pytest.raises(urllib.error.HTTPError, match="403"):
            urllib.request.urlopen(f"http://127.0.0.1:{port}/page", timeout=10)
        assert fundamen("prereqs", "sheet.toml", "--save-plan", "plan.json").status == 1
        assert fundamen("plans", "run", "plan.json", "--yes").status == 0
        assert fundamen("prereqs", "sheet.toml").status == 0
        with urllib.request.urlopen(f"http://127.0.0.1:{port}/page", timeout=10) as page:
            assert page.read() == b"tides"


def test_each_module_of_a_real_interpreter_is_judged_as_the_interpreter_itself_lists_it(tmp_path: Path) -> None:
    php = os.path.realpath("/usr/bin/php")
    listed = {line.lower() for line in subprocess.check_output([php, "-m"], text=True).splitlines() if line[:1] != "["}
    version = subprocess.check_output([php, "-r", "echo PHP_VERSION;"], text=True)
    facts: dict[str, Any] = {"language": "php", "interpreter": php}
    assert answer("language runtime", **facts, version=f"= {version}").standing == "met"
    assert answer("language runtime", **facts, version=f"> {version}").found == f"it is {version}"
    names = [*sorted(listed - {""}), "tidal", "zend opcache"]
    for name in (name for name in names if name != "zend opcache"):
        reply = answer("language runtime", **facts, modules=[name], may_run=True)
        assert (reply.standing == "met") is (name in listed), (name, reply)
        still = answer("language runtime", **facts, modules=[name])
        assert still.standing in {reply.standing, "unknown"}, (name, still)
    folder = Path(subprocess.check_output([php, "-r", "echo PHP_CONFIG_FILE_SCAN_DIR;"], text=True))
    copy = tmp_path / "php"
    shutil.copytree(folder.parent, copy)
    for file in (copy / "conf.d").glob("*mbstring.ini"):
        file.unlink()
    off = answer("language runtime", **facts, modules=["mbstring"], settings=str(copy))
    assert off.found == say("prerequisites.is-installed-and-switched-off", name="mbstring")
    (copy / "conf.d" / "99-own.ini").write_text("extension=tidal.so\n")
    missing = answer("language runtime", **facts, modules=["tidal"], settings=str(copy))
    assert missing.found == say("prerequisites.is-switched-on-and-its-file", name="tidal")
