"""Really provoke failures with the tools of this system, and write what they say to tests/clues/corpus/provoked.txt.

Needs root and the packages that tools/system-packages installs, besides: clang lld mold cmake ninja-build musl-tools
default-jdk-headless nodejs ruby php-cli lua5.4 tcl mono-mcs mono-runtime gfortran golang-go ldap-utils slapd nginx curl
wget libc-l10n locales-all gcc-i686-linux-gnu gcc-aarch64-linux-gnu sqlite3 libxml2-utils.

Each case says which line decides, by a piece of it, and what it names: that is a person's judgement, not the tool's.
"""

import shutil
import subprocess
import sys
import textwrap
import time
from pathlib import Path
from typing import NamedTuple

FOLDER = Path("/srv/marram")
CORPUS = Path(__file__).parent.parent / "tests" / "clues" / "corpus" / "provoked.txt"
LONGEST = 40  # lines of one case
NOBODY = "su -s /bin/sh nobody -c"
FOREIGN = ("curl.se", "web page", "--help", "Node.js v", "pyenv")  # lines that point to somebody's pages


class Case(NamedTuple):
    """A failure to provoke."""

    name: str
    command: str
    decides: str  # a piece of the line that decides
    component: str = ""
    architecture: str = ""
    before: str = ""  # a command that prepares it; what it prints is left out
    language: str = "C.UTF-8"


FILES = {
    "src/salt.c": "int salt(void) { return 4; }\n",
    "src/tide.c": "int salt(void); int tide(void) { return salt(); }\n",
    "src/app.c": "int tide(void); int main(void) { return tide() != 4; }\n",
    "src/gauge.c": "#include <saltgrass/depth.h>\nint main(void) { return 0; }\n",
    "src/new.map": "SALT_4.2 { global: salt; };\n",
    "src/old.map": "SALT_4.1 { global: *; };\n",
    "Makefile": "all: tidebook.bin\ntidebook.bin: tide.o\n\t$(CC) -o $@ $^\n"
    "linked:\n\t$(CC) -o app src/salt.c -lsa1tgrass\ntool:\n\tsaltgen depth.in\n",
    "cm1/CMakeLists.txt": "cmake_minimum_required(VERSION 3.10)\nproject(tidebook C)\nfind_package(Saltgrass 4.2 REQUIRED)\n",
    "cm2/CMakeLists.txt": "cmake_minimum_required(VERSION 3.90)\nproject(tidebook C)\n",
    "cm3/CMakeLists.txt": "cmake_minimum_required(VERSION 3.10)\nproject(tidebook C)\nfind_library(SALT saltgrass REQUIRED)\n",
    "nj1/build.ninja": "rule cc\n  command = gcc -o $out $in -lsaltgrass\nbuild app: cc ../src/salt.c\n",
    "nj2/build.ninja": "build app: phony gauge.c\n",
    "tool.sh": "#!/usr/bin/saltscript\necho depth\n",
    "tool.py": "#!/usr/bin/env saltpython\nprint(1)\n",
    "crlf.sh": "#!/bin/sh\r\necho depth\r\n",
    "plain.sh": "#!/bin/sh\necho depth\n",
    "j/Tide.java": 'public class Tide { public static void main(String[] a) { System.loadLibrary("saltgrass"); } }\n',
    "j/Use.java": "public class Use { public static void main(String[] a) { try { new Dep(); } catch"
    ' (NoClassDefFoundError e) { throw new RuntimeException("Tidebook could not start", e); } } }\nclass Dep { }\n',
    "j/New.java": "public class New { public static void main(String[] a) { } }\n",
    "p.cs": 'using System.Runtime.InteropServices; class P { [DllImport("saltgrass")] static extern int depth();'
    " static void Main() { depth(); } }\n",
    "core.cs": "public class Gauge { public static int Depth() { return 1; } }\n",
    "m.cs": "class M { static void Main() { System.Console.WriteLine(Gauge.Depth()); } }\n",
    "tide.mjs": "import 'saltgrass';\n",
    "require.php": "<?php require 'config/tidebook.php';\n",
    "pk/saltgrass/__init__.py": "from ._depth import salt\n",
    "tide.f90": "use saltgrass\nend\n",
    "go/go.mod": "module tidebook\ngo 1.19\n",
    "go/main.go": 'package main\nimport "saltgrass.example/depth"\nfunc main() { depth.Print() }\n',
    "ldap/slapd.conf": "include /etc/ldap/schema/core.schema\npidfile /srv/marram/ldap/pid\nmodulepath /usr/lib/ldap\n"
    'moduleload back_mdb\ndatabase mdb\nsuffix "dc=marram,dc=example"\nrootdn "cn=admin,dc=marram,dc=example"\n'
    "rootpw secret\ndirectory /srv/marram/ldap/db\n",
    "ldap/bad.conf": "include /etc/ldap/schema/tides.schema\n",
    "ng/module.conf": "pid /srv/marram/ng.pid; error_log stderr; load_module modules/ngx_salt_module.so;\nevents {}\n",
    "ng/cert.conf": "pid /srv/marram/ng.pid; error_log stderr;\nevents {}\nhttp { server { listen 9443 ssl;"
    " ssl_certificate /srv/marram/none.pem; ssl_certificate_key /srv/marram/none.key; } }\n",
    "ng/key.conf": "pid /srv/marram/ng.pid; error_log stderr;\nevents {}\nhttp { server { listen 9443 ssl;"
    " ssl_certificate /srv/marram/s.pem; ssl_certificate_key /srv/marram/ss.key; } }\n",
    "ng/word.conf": "pid /srv/marram/ng.pid; error_log stderr;\nevents {}\nhttp { salty on; }\n",
    "ng/port.conf": "pid /srv/marram/ng.pid; error_log stderr; daemon off;\nevents {}\nhttp { access_log off;"
    " server { listen 9555; } }\n",
    "a.xml": "<a><b></a>\n",
    **{
        f"deb/{name}/DEBIAN/control": f"Package: {name}\nVersion: 1.0\nArchitecture: {processor}\n"
        f"Maintainer: Harbour IT <it@marram.example>\nDescription: made up\n{more}"
        for name, processor, more in (
            ("tidebook", "amd64", "Depends: saltgrass-runtime (>= 4.2)\n"),
            ("berthbook", "amd64", "Depends: libc6 (>= 99)\n"),
            ("armtide", "arm64", ""),
        )
    },
}

PREPARE = """
mkdir -p lib i small ldap/db repo; chmod 755 *.sh tool.py; chmod 644 plain.sh
gcc -shared -fPIC -o lib/libsalt.so.4 src/salt.c -Wl,-soname,libsalt.so.4
gcc -shared -fPIC -o lib/libtide.so.2 src/tide.c lib/libsalt.so.4 -Wl,-soname,libtide.so.2 -Wl,-rpath,'$ORIGIN'
gcc -o tidebook src/app.c lib/libtide.so.2 -Wl,-rpath,'$ORIGIN/lib' -Wl,-rpath-link,lib
cp lib/libsalt.so.4 good; i686-linux-gnu-gcc -shared -fPIC -nostdlib -o narrow src/salt.c -Wl,-soname,libsalt.so.4
cp narrow i/libsaltgrass.so; gcc -shared -fPIC -o old src/salt.c -Wl,-soname,libsaltv.so.4 -Wl,--version-script=src/old.map
gcc -shared -fPIC -o libsaltv.so src/salt.c -Wl,-soname,libsaltv.so.4 -Wl,--version-script=src/new.map
printf 'int salt(void); int main(void) { return salt(); }' > v.c; gcc -o versioned v.c ./libsaltv.so; cp old libsaltv.so.4
printf 'int main(void) { return 0; }' > n.c; aarch64-linux-gnu-gcc n.c -o armtide 2>/dev/null
gcc n.c -o noint -Wl,--dynamic-linker=/lib/ld-saltgrass.so.4
printf 'int tide(void); int main(void) { return tide(); }' > m.c; printf 'int tide(void) { return 1; }' > mt.c
musl-gcc -shared -fPIC -o libmtide.so mt.c; musl-gcc m.c -o mtide -L. -lmtide
javac -d j j/Tide.java j/Use.java j/New.java; rm j/Dep.class; mkdir j8; cp j/New.class j8
printf '\\x00\\x00\\x00\\x50' | dd of=j8/New.class bs=1 seek=4 conv=notrunc 2>/dev/null; cp narrow j/libsaltgrass.so
cp narrow s.node; cp narrow pk/saltgrass/_depth.so
mcs p.cs; mcs -target:library -out:Saltgrass.Core.dll core.cs; mcs -r:Saltgrass.Core.dll m.cs; rm Saltgrass.Core.dll
openssl req -x509 -newkey rsa:2048 -nodes -keyout ca.key -out ca.pem -days 3650 -subj '/CN=Marram Root'
openssl req -newkey rsa:2048 -nodes -keyout s.key -out s.csr -subj '/CN=localhost'
printf 'subjectAltName=DNS:tides.example' > e
openssl x509 -req -in s.csr -CA ca.pem -CAkey ca.key -CAcreateserial -out s.pem -days 30 -extfile e
openssl req -x509 -newkey rsa:2048 -nodes -keyout ss.key -out ss.pem -days 30 -subj '/CN=localhost'
python3 -m venv v; for n in tidebook berthbook armtide; do dpkg-deb -b deb/$n deb/$n.deb; done
head -c 300 deb/tidebook.deb > deb/cut.deb; cp deb/tidebook.deb repo; cd repo
dpkg-scanpackages . > Packages; apt-ftparchive release . > Release; cd ..; echo junk > x.zip
echo 'deb file:/srv/marram/repo ./' > sources; mkdir -p apt/l/partial apt/c/archives/partial
tar czf t.tgz src; head -c 120 t.tgz > cut.tgz; echo aaaa | xz > t.xz; printf Z | dd of=t.xz bs=1 seek=20 conv=notrunc
"""
APT = (
    "apt-get -o Dir::Etc::sourcelist=/srv/marram/sources -o Dir::Etc::sourceparts=- "
    "-o Dir::State::lists=/srv/marram/apt/l -o Dir::Cache=/srv/marram/apt/c"
)
LDAP = "-x -H ldap://127.0.0.1:9389"
ADMIN = "-D cn=admin,dc=marram,dc=example -w secret"
PY = "python3 -c"

CASES = [
    # the loaders of Linux, and the kernel through a shell
    Case("elf-missing", "./tidebook", "libsalt.so.4: cannot open", "libsalt.so.4", before="rm lib/libsalt.so.4"),
    Case(
        "elf-dlopen",
        f"{PY} 'import ctypes; ctypes.CDLL(\"libsaltgrass.so.4\")'",
        "OSError: libsalt",
        "libsaltgrass.so.4",
    ),
    *(
        Case(
            f"elf-dlopen-{code[:2]}",
            f'{PY} \'import locale, ctypes; locale.setlocale(locale.LC_ALL, ""); ctypes.CDLL("libsaltgrass.so.4")\'',
            "OSError: libsaltgrass",
            "libsaltgrass.so.4",
            language=f"{code}.UTF-8",
        )
        for code in ("de_DE", "fr_FR", "es_ES", "it_IT", "pl_PL", "ja_JP")
    ),
    Case("elf-width", "./tidebook", "wrong ELF class", "libsalt.so.4", "32 bits", before="cp narrow lib/libsalt.so.4"),
    Case("elf-cut", "./tidebook", "libsalt.so.4: ", "libsalt.so.4", before="head -c 200 good > lib/libsalt.so.4"),
    Case("elf-text", "./tidebook", "libsalt.so.4: ", "libsalt.so.4", before="yes depth | head -99 > lib/libsalt.so.4"),
    Case("elf-empty", "./tidebook", "file too short", "libsalt.so.4", before=": > lib/libsalt.so.4"),
    Case(
        "elf-symbol",
        "./tidebook",
        "undefined symbol: salt",
        "libtide.so.2",
        before="gcc -shared -fPIC -o lib/libsalt.so.4 -x c /dev/null -Wl,-soname,libsalt.so.4",
    ),
    Case("elf-version", "LD_LIBRARY_PATH=. ./versioned", "version `SALT_4.2' not found", "libsaltv.so.4"),
    Case(
        "elf-rights",
        f"chmod 711 /srv/marram; {NOBODY} /srv/marram/tidebook",
        "libsalt.so.4",
        "libsalt.so.4",
        before="cp good lib/libsalt.so.4; chmod 000 lib/libsalt.so.4",
    ),
    Case("exec-format", "./armtide", "Exec format error"),
    Case("no-loader", "./noint", "required file not found"),
    Case("no-interpreter", "./tool.sh", "required file not found"),
    Case("no-env", "./tool.py", "saltpython", "saltpython"),
    Case("crlf", "./crlf.sh", "required file not found"),
    Case("not-executable", "./plain.sh", "Permission denied"),
    Case("no-command", "saltgrass-config --libs", "command not found", "saltgrass-config"),
    Case("no-command-sh", "sh -c 'saltgrass-config --libs'", "not found", "saltgrass-config"),
    Case("no-command-de", "saltgrass-config", "Kommando nicht gefunden", "saltgrass-config", language="de_DE.UTF-8"),
    Case("no-command-fr", "saltgrass-config", "commande introuvable", "saltgrass-config", language="fr_FR.UTF-8"),
    Case("musl-missing", "./mtide", "libmtide.so: No such file", "libmtide.so", before="rm libmtide.so"),
    Case("musl-symbol", "LD_LIBRARY_PATH=. ./mtide", "symbol not found", before="musl-gcc -shared -o libmtide.so n.c"),
    # compilers, linkers, build tools
    Case("gcc-header", "gcc -c src/gauge.c", "saltgrass/depth.h: No such", "saltgrass/depth.h"),
    Case("clang-header", "clang -c src/gauge.c", "'saltgrass/depth.h' file not found", "saltgrass/depth.h"),
    Case("clang-library", "clang -o app src/salt.c -lsaltgrass", "cannot find -lsaltgrass", "saltgrass"),
    *(
        Case(f"{name}-library", f"gcc -fuse-ld={name} -o app src/app.c -lsaltgrass", decides, "saltgrass")
        for name, decides in (
            ("bfd", "cannot find -lsaltgrass"),
            ("gold", "cannot find -lsaltgrass"),
            ("lld", "unable to find library -lsaltgrass"),
            ("mold", "library not found: saltgrass"),
        )
    ),
    *(
        Case(f"{name}-symbol", f"gcc -fuse-ld={name} -o app src/app.c", decides)
        for name, decides in (
            ("bfd", "undefined reference to `tide'"),
            ("gold", "undefined reference to 'tide'"),
            ("lld", "undefined symbol: tide"),
            ("mold", "undefined symbol: tide"),
        )
    ),
    *(
        Case(f"{name}-width", f"gcc -fuse-ld={name} -o app src/app.c -Li -lsaltgrass", decides, component, processor)
        for name, decides, component, processor in (
            ("bfd", "skipping incompatible", "saltgrass", ""),
            ("gold", "skipping incompatible", "saltgrass", ""),
            ("lld", "is incompatible with", "libsaltgrass.so", "x86_64"),
            ("mold", "skipping incompatible", "libsaltgrass.so", ""),
        )
    ),
    Case("gcc-narrow", "gcc -m32 -o app src/salt.c", "cannot find Scrt1.o", "Scrt1.o"),
    Case(
        "not-on-line",
        "gcc -o d src/app.c lib/libtide.so.2",
        "libsalt.so.4, needed by lib/libtide.so.2, not found",
        "libsalt.so.4",
        before="mv lib/libsalt.so.4 hidden",
    ),
    Case("make-no-rule", "mv hidden lib/libsalt.so.4; make", "No rule to make target 'tide.o'", "tide.o"),
    Case("make-misread", "make linked", "cannot find -lsa1tgrass", "sa1tgrass"),
    Case("make-tool", "make tool", "saltgen: No such file", "saltgen"),
    Case("make-no-rule-de", "make out", "Keine Regel", language="de_DE.UTF-8"),
    Case("cmake-package", "cmake -S cm1 -B b1", "By not providing", "Saltgrass"),
    Case("cmake-version", "cmake -S cm2 -B b2", "CMake 3.90 or higher is required"),
    Case("cmake-library", "cmake -S cm3 -B b3", "Could not find SALT using the following names", "saltgrass"),
    Case("pkg-config", "pkg-config --libs saltgrass", "Package saltgrass was not found", "saltgrass"),
    Case("ninja-library", "ninja -C nj1", "cannot find -lsaltgrass", "saltgrass"),
    Case("ninja-source", "ninja -C nj2 app", "missing and no known rule", "gauge.c"),
    Case("fortran-source", "gfortran -o x gauge.f90", "Cannot open file"),
    Case("fortran-module", "gfortran tide.f90", "Cannot open module file", "saltgrass.mod"),
    Case(
        "go-module",
        "cd go; GOPATH=/srv/marram/gopath GOFLAGS=-mod=mod GOPROXY=off go build",
        "cannot find module providing",
        "saltgrass.example/depth",
    ),
    Case("header-fr", "gcc -c src/none.c", "none.c: Aucun fichier", language="fr_FR.UTF-8"),
    # language runtimes
    Case("java-library", "java -cp j Tide", "no saltgrass in java.library.path", "saltgrass"),
    Case("java-class", "java -cp j Berth", "Caused by: java.lang.ClassNotFoundException: Berth", "Berth"),
    Case("java-archive", "java -jar tidebook.jar", "Unable to access jarfile", "tidebook.jar"),
    Case("java-dependency", "java -cp j Use", "Caused by: java.lang.ClassNotFoundException: Dep", "Dep"),
    Case("java-version", "java -cp j8 New", "UnsupportedClassVersionError", "New"),
    Case("java-width", "java -Djava.library.path=j -cp j Tide", "wrong ELF class", "libsaltgrass.so", "32 bits"),
    Case("java-memory", "java -Xmx900000g -version", "Could not reserve enough space"),
    Case("java-home", "sh -c '/opt/jdk-21/bin/java -version'", "/opt/jdk-21/bin/java: not found", "java"),
    Case("node-module", "node -e 'require(\"saltgrass\")'", "Cannot find module 'saltgrass'", "saltgrass"),
    Case("node-width", "node -e 'require(\"./s.node\")'", "wrong ELF class", "s.node", "32 bits"),
    Case("node-import", "node tide.mjs", "Cannot find package 'saltgrass'", "saltgrass"),
    Case("ruby-module", "ruby -e 'require \"saltgrass\"'", "cannot load such file", "saltgrass"),
    Case("php-extension", "php -d extension=saltgrass -r 'echo 1;'", "Unable to load dynamic library", "saltgrass"),
    Case(
        "php-function", "php -d extension=saltgrass -r 'salt_depth();'", "Unable to load dynamic library", "saltgrass"
    ),
    Case("php-file", "php require.php", "require(config/tidebook.php)"),
    Case("perl-module", "perl -MSaltgrass::Depth -e 1", "Can't locate Saltgrass/Depth.pm", "Saltgrass::Depth"),
    Case("lua-module", "lua5.4 -e 'require \"saltgrass\"'", "module 'saltgrass' not found", "saltgrass"),
    Case("tcl-package", "echo 'package require saltgrass 4.2' | tclsh", "can't find package", "saltgrass"),
    Case("python-module", f"{PY} 'import saltgrass.depth'", "No module named", "saltgrass"),
    Case("python-width", f"PYTHONPATH=pk {PY} 'import saltgrass'", "wrong ELF class", "_depth.so", "32 bits"),
    Case("python-name", f"{PY} 'from json import salt'", "cannot import name", "json"),
    Case("pip-missing", "v/bin/pip install --no-index saltgrass==4.2", "Could not find a version", ""),
    Case(
        "pip-digest",
        "echo x > saltgrass-4.2-py3-none-any.whl; echo 'saltgrass==4.2 --hash=sha256:"
        + "0" * 64
        + "' > r.txt; v/bin/pip install --no-index --find-links . -r r.txt",
        "DO NOT MATCH THE HASHES",
    ),
    Case("mono-native", "mono p.exe", "DllNotFoundException: saltgrass", "saltgrass"),
    Case("mono-assembly", "mono m.exe", "System.IO.FileNotFoundException: Could not load", "Saltgrass.Core"),
    # certificates and networks
    *(
        Case(f"{tool}-{name}", command.format(url), decides)
        for tool, command in (
            ("curl", "curl -sS {}"),
            ("wget", "wget -nv -T 3 -t 1 -O /dev/null {}"),
            ("git", "git ls-remote {}salt.git"),
            ("python", PY + " 'import urllib.request as u; u.urlopen(\"{}\")' 2>&1 | tail -3"),
            ("node", 'node -e \'require("https").get("{}")\''),
        )
        for name, url, decides in (
            (
                "untrusted",
                "https://localhost:9443/",
                {
                    "curl": "local issuer",
                    "wget": "not trusted",
                    "git": "verification failed",
                    "python": "local issuer",
                    "node": "Error: unable to verify",
                }[tool],
            ),
            (
                "refused",
                "https://localhost:9449/",
                {
                    "curl": "connect to server",
                    "wget": "refused",
                    "git": "connect to server",
                    "python": "refused",
                    "node": "Error: connect ECONNREFUSED",
                }[tool],
            ),
            (
                "unknown",
                "https://tides.example:9443/",
                {
                    "curl": "Could not resolve",
                    "wget": "unable to resolve",
                    "git": "Could not resolve",
                    "python": "not known",
                    "node": "Error: getaddrinfo",
                }[tool],
            ),
        )
    ),
    Case("curl-self-signed", "curl -sS https://localhost:9444/", "self-signed certificate"),
    Case("curl-name", "curl -sS --cacert ca.pem https://localhost:9443/", "no alternative certificate subject name"),
    Case("curl-protocol", "curl -sS -k --tls-max 1.2 https://localhost:9445/", "alert protocol version"),
    Case("openssl-chain", "openssl verify s.pem", "unable to get local issuer certificate"),
    Case("openssl-expired", "openssl verify -attime 2000000000 -CAfile ca.pem s.pem", "certificate has expired"),
    Case("openssl-file", "openssl x509 -in s.csr -noout", "Could not read certificate"),
    Case(
        "java-tls",
        "printf 'public class T { public static void main(String[] a) throws Exception { new java.net.URL"
        "(\"https://localhost:9443/\").openStream(); } }' > T.java; java T.java 2>&1 | grep -v '^.at '",
        "Caused by: sun.security.provider",
    ),
    Case("php-tls", "php -r 'file_get_contents(\"https://localhost:9443/\");'", "SSL operation failed"),
    Case(
        "go-tls",
        'printf \'package main\\nimport ("fmt";"net/http")\\nfunc main(){ _,e:=http.Get("https://localhost:9443/");'
        " fmt.Println(e)}' > t.go; GOPATH=/srv/marram/gopath go run t.go",
        "certificate is valid for",
    ),
    Case("ssh-refused", "ssh -o BatchMode=yes localhost true", "Connection refused"),
    # packages and archives
    Case("apt-unknown", "apt-get install -y saltgrass-runtime", "Unable to locate package"),
    Case("apt-unmet", "apt-get install -y ./deb/tidebook.deb", "Depends: saltgrass-runtime", "saltgrass-runtime"),
    Case("apt-too-old", "apt-get install -y ./deb/berthbook.deb", "Depends: libc6 (>= 99)", "libc6"),
    Case(
        "dpkg-unmet",
        "dpkg -i deb/tidebook.deb; dpkg -r tidebook > /dev/null",
        "depends on saltgrass",
        "saltgrass-runtime",
    ),
    Case("dpkg-processor", "dpkg -i deb/armtide.deb", "package architecture (arm64)", "", "aarch64"),
    Case("dpkg-cut", "dpkg -i deb/cut.deb", "cannot copy archive member"),
    Case("dpkg-rights", f"{NOBODY} 'dpkg -i /srv/marram/deb/tidebook.deb'", "requires superuser privilege"),
    Case(
        "apt-lock",
        f'{PY} \'import fcntl, subprocess; f = open("/var/lib/dpkg/lock-frontend", "w"); '
        'fcntl.lockf(f, fcntl.LOCK_EX); subprocess.run(["apt-get", "install", "-y", "hello"])\'',
        "Could not get lock",
    ),
    Case("apt-unsigned", f"{APT} update", "is not signed"),
    Case("digest", f"echo '{'0' * 64}  x.zip' | sha256sum -c", "x.zip: FAILED"),
    Case("tar-cut", "tar xzf cut.tgz", "unexpected end of file"),
    Case("gzip-not", "gzip -dc x.zip", "not in gzip format"),
    Case("zip-not", "python3 -m zipfile -t x.zip 2>&1 | tail -2", "BadZipFile: "),
    Case("xz-damaged", "xz -t t.xz", "Compressed data is corrupt"),
    Case("git-none", "git clone /srv/charts.git", "does not exist"),
    # directories and services
    Case("ldap-password", f"ldapsearch {LDAP} -D cn=admin,dc=marram,dc=example -w wrong", "Invalid credentials (49)"),
    Case("ldap-entry", f"ldapsearch {LDAP} -b ou=ca,dc=marram,dc=example", "32 No such object"),
    Case("ldap-down", "ldapsearch -x -H ldap://127.0.0.1:9390", "Can't contact LDAP server"),
    Case("ldap-tls", f"ldapsearch {LDAP} -ZZ", "Protocol error (2)"),
    Case(
        "ldap-rights",
        f"printf 'dn: dc=marram,dc=example\\nobjectClass: organization\\nobjectClass: dcObject\\no: Marram\\ndc: marram\\n' | ldapadd {LDAP}",
        "authentication required (8)",
    ),
    Case("slapd-schema", "slapd -f ldap/bad.conf -d 1 2>&1 | grep -v '=>'", "tides.schema"),
    Case("nginx-module", "nginx -t -c /srv/marram/ng/module.conf", "ngx_salt_module.so", "ngx_salt_module.so"),
    Case("nginx-certificate", "nginx -t -c /srv/marram/ng/cert.conf", "cannot load certificate"),
    Case("nginx-key", "nginx -t -c /srv/marram/ng/key.conf", "key values mismatch"),
    Case("nginx-word", "nginx -t -c /srv/marram/ng/word.conf", "unknown directive"),
    Case("nginx-port", "timeout 5 nginx -c /srv/marram/ng/port.conf", "bind() to 0.0.0.0:9555"),
    # the system
    Case("disk-full", "cp /bin/bash small/tidebook", "No space left", before="mount -t tmpfs -o size=64k tmpfs small"),
    Case("disk-full-tar", "tar -C small -xf - < <(tar c -C / bin/bash usr/bin/ls)", "bin/bash: Cannot write"),
    Case("disk-full-python", f'{PY} \'open("small/y", "wb").write(b"x" * 999999)\'', "No space left"),
    Case(
        "read-only", "touch small/x", "Read-only file system", before="umount small; mount -t tmpfs -o ro tmpfs small"
    ),
    Case(
        "many-files",
        f"umount small; ulimit -n 8; {PY} 'import os; [os.open(\"/\", 0) for _ in range(20)]'",
        "Too many open",
    ),
    Case("no-memory", f"ulimit -v 200000; {PY} 'x = bytearray(1 << 30)'", "MemoryError"),
    Case("busy", "cp /bin/sleep slp; ./slp 3 & sleep .3; cp /bin/sleep slp", "Text file busy"),
    Case("no-folder-right", f"{NOBODY} 'mkdir /opt/tidebook'", "Permission denied"),
    Case("no-file-right", f'{NOBODY} \'{PY} "open(\\"/etc/shadow\\")"\'', "Permission denied: '/etc/shadow'"),
    Case("crash", "bash -c 'kill -SEGV $$'; true", "Segmentation fault"),
    Case("killed", "bash -c 'kill -9 $$'; true", "Killed"),
    Case("port-taken", "timeout 2 python3 -m http.server 9555 2>&1 | tail -1", "Address already in use"),
    Case("no-folder-de", "ls /opt/tidebook", "Datei oder Verzeichnis nicht gefunden", language="de_DE.UTF-8"),
    Case("no-folder-fr", "ls /opt/tidebook", "Aucun fichier ou dossier", language="fr_FR.UTF-8"),
    Case("link-loop", "ln -s a b; ln -s b a; cat a", "Too many levels"),
    Case("xml-broken", "xmllint --noout a.xml", "Opening and ending tag mismatch"),
    Case("sqlite-damaged", "sqlite3 x.zip .tables", "file is not a database"),
    Case("sysctl-none", "sysctl kernel.salt", "cannot stat /proc/sys/kernel/salt"),
]


def run(command: str, language: str = "C.UTF-8") -> str:
    """The output of a command on both its streams."""
    environment = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "HOME": str(FOLDER), "LC_ALL": language, "TERM": "dumb"}
    done = subprocess.run(
        ["bash", "-c", command],
        cwd=FOLDER,
        env=environment,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        stdin=subprocess.DEVNULL,
        timeout=120,
        check=False,
    )
    return done.stdout.decode("utf-8", "replace")


def recorded_case(case: Case) -> str:
    """A case as it stands in the corpus."""
    if case.before:
        run(case.before)
    lines = [
        line for line in run(case.command, case.language).splitlines() if not any(word in line for word in FOREIGN)
    ]
    text = "\n".join(lines[:LONGEST])
    if case.decides not in text:
        print(f"{case.name} was not provoked; it says:\n{text}\n", file=sys.stderr)
        return ""
    named = "".join(
        f"{what}: {value}\n"
        for what, value in (("component", case.component), ("architecture", case.architecture))
        if value
    )
    return f"==== {case.name}\ndecides: {case.decides}\n{named}----\n{text}\n"


def main() -> None:
    """Provoke all of them."""
    shutil.rmtree(FOLDER, ignore_errors=True)
    for name, text in FILES.items():
        (FOLDER / name).parent.mkdir(parents=True, exist_ok=True)
        (FOLDER / name).write_text(textwrap.dedent(text), newline="")
    run(PREPARE)
    servers = [
        subprocess.Popen(
            f"exec {command}", shell=True, cwd=FOLDER, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        for command in (
            "openssl s_server -accept 9443 -cert s.pem -key s.key -www -quiet",
            "openssl s_server -accept 9444 -cert ss.pem -key ss.key -www -quiet",
            "openssl s_server -accept 9445 -cert s.pem -key s.key -www -quiet -tls1_3",
            "/usr/sbin/slapd -f ldap/slapd.conf -h ldap://127.0.0.1:9389 -d 0",
            "python3 -m http.server 9555",
        )
    ]
    time.sleep(2)
    try:
        told_cases = [recorded_case(case) for case in CASES]
    finally:
        for server in servers:
            server.kill()
    CORPUS.parent.mkdir(parents=True, exist_ok=True)
    CORPUS.write_text("".join(told_cases))
    shutil.rmtree(FOLDER)
    print(f"{sum(map(bool, told_cases))} of {len(CASES)} failures provoked")
    sys.exit(not all(told_cases))


if __name__ == "__main__":
    main()
