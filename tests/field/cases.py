"""The cases: packages' files damaged, and applications of no package below /opt, each made to fail for real."""

from field import Case

L = "usr/lib/x86_64-linux-gnu"
PY = "usr/lib/python3.11"

# An application of a vendor: a program with a library of its own, found by run path.
VENDOR = """
mkdir -p opt/tide/bin opt/tide/lib
echo 'int ebb(void) { return 7; }' > tmp/ebb.c
echo '#include <stdio.h>
int ebb(void); int main(void) { printf("tide %d\\n", ebb()); return 0; }' > tmp/tide.c
build opt/tide/lib/libebb.so.2 -shared -fPIC -Wl,-soname,libebb.so.2 tmp/ebb.c
ln -s libebb.so.2 opt/tide/lib/libebb.so
build opt/tide/bin/tide tmp/tide.c -Lopt/tide/lib -lebb -Wl,-rpath,'$ORIGIN/../lib'
"""
# The same without a run path: it is found by the loader's cache or by a variable.
PLAIN = VENDOR.replace("-Wl,-rpath,'$ORIGIN/../lib'", "")
# One that uses a library of the system.
ZLIB = """
mkdir -p opt/tide/bin opt/tide/lib
echo 'const char *zlibVersion(void); int puts(const char *); int main(void) { return puts(zlibVersion()) < 0; }' > tmp/t.c
build opt/tide/bin/tide tmp/t.c $PWD/usr/lib/x86_64-linux-gnu/libz.so.1 -Wl,-rpath,'$ORIGIN/../lib'
"""
WRAPPER = """
cat > opt/tide/tide.sh <<'X'
#!/bin/sh
here=$(cd "$(dirname "$0")" && pwd)
export LD_LIBRARY_PATH="$here/lib"
exec "$here/bin/tide" "$@"
X
chmod +x opt/tide/tide.sh
"""
TIDE = "/opt/tide/bin/tide"
NO_LIBRARY = "cannot open shared object file"

LIBRARIES = [
    Case("a library is gone", f"rm {L}/libnghttp2.so.14.*", "curl --version", ("libnghttp2.so.14",), said=NO_LIBRARY),
    Case("a library is cut off", f"truncate -s 20000 {L}/libnghttp2.so.14.*", "curl --version", ("libnghttp2.so.14", "truncated")),
    Case("a library is empty", f"truncate -s 0 {L}/libnghttp2.so.14.*", "curl --version", ("libnghttp2.so.14", "empty"), said="file too short"),
    Case("a library holds a page", f"echo '<html>404</html> {'x' * 900}' > $(readlink -f {L}/libnghttp2.so.14)", "curl --version", ("libnghttp2.so.14",), said="invalid ELF header"),
    Case("a soname's link is gone", f"rm {L}/libnghttp2.so.14", "curl --version", ("libnghttp2.so.14",), said=NO_LIBRARY),
    Case("a soname's link leads to nothing", f"ln -sfn libnghttp2.so.14.99 {L}/libnghttp2.so.14", "curl --version", ("libnghttp2.so.14", "is a link to"), said=NO_LIBRARY),
    Case("a soname's link leads to itself", f"ln -sfn libnghttp2.so.14 {L}/libnghttp2.so.14", "curl --version", ("libnghttp2.so.14", "loop")),
    Case("a folder has a library's name", f"rm {L}/libnghttp2.so.14; mkdir {L}/libnghttp2.so.14", "curl --version", ("libnghttp2.so.14", "folder")),
    Case("a pipe has a library's name", f"rm {L}/libnghttp2.so.14; mkfifo {L}/libnghttp2.so.14; :", "timeout 5 curl --version", ("libnghttp2.so.14",), said=""),
    Case("a library is of another processor", f"aarch64=$(readlink -f {L}/libnghttp2.so.14); printf '\\267' | dd of=$aarch64 bs=1 seek=18 conv=notrunc 2>&1", "curl --version", ("libnghttp2.so.14", "aarch64"), said=NO_LIBRARY),
    Case("a library may not be read", f"chmod 600 $(readlink -f {L}/libnghttp2.so.14)", "curl --version", ("libnghttp2.so.14",), user="nobody", said="Permission denied"),
    Case("a folder of libraries may not be entered", VENDOR + "chmod 700 opt/tide/lib", TIDE, ("/opt/tide/lib",), user="nobody", said=NO_LIBRARY),
    Case("a package was removed by force", "in_root dpkg --force-depends -r libnghttp2-14", "curl --version", ("libnghttp2.so.14", "libnghttp2-14"), said=NO_LIBRARY),
    Case("a vendor's library is gone", VENDOR + "rm opt/tide/lib/*", TIDE, ("libebb.so.2",), remedy=False, said=NO_LIBRARY),
    Case("a vendor's application was moved", VENDOR.replace("$ORIGIN/../lib", "/opt/tide/lib") + "mv opt/tide srv/tide", "/srv/tide/bin/tide", ("/srv/tide/lib/libebb.so.2",), said=NO_LIBRARY),
    Case("a vendor's links became text", VENDOR + "mv opt/tide/lib/libebb.so.2 opt/tide/lib/libebb.so.2.1; printf libebb.so.2.1 > opt/tide/lib/libebb.so.2", TIDE, ("/opt/tide/lib/libebb.so.2", "libebb.so.2.1"), said="file too short"),
    Case("a bundled library is an older one", ZLIB + "echo 'const char *zlibVersion(void) { return \"1.1\"; }' > tmp/z.c; echo 'ZLIB_1.1 { global: *; };' > tmp/z.map; sed -i 's/zlibVersion(void);/zlibVersion(void); int gzoffset64(void*);/; s/return puts/if (!puts) gzoffset64(0); return puts/' tmp/t.c; build opt/tide/bin/tide tmp/t.c $PWD/usr/lib/x86_64-linux-gnu/libz.so.1 -Wl,-rpath,'$ORIGIN/../lib'; build opt/tide/lib/libz.so.1 -shared -fPIC tmp/z.c -Wl,-soname,libz.so.1 -Wl,--version-script=tmp/z.map", TIDE, ("/opt/tide/lib/libz.so.1", "ZLIB_1.2.3.5"), said="version `ZLIB"),
    Case("a foreign copy has no versions", ZLIB + "echo 'const char *other(void) { return \"1.1\"; }' > tmp/z.c; build opt/tide/lib/libz.so.1 -shared -fPIC tmp/z.c -Wl,-soname,libz.so.1", TIDE, ("/opt/tide/lib/libz.so.1", "zlibVersion"), said="undefined symbol"),
    Case("an old library in /usr/local shadows", "echo 'int x;' > tmp/x.c; build usr/local/lib/libnghttp2.so.14 -shared -fPIC tmp/x.c -Wl,-soname,libnghttp2.so.14; in_root ldconfig", "curl --version", ("/usr/local/lib/libnghttp2.so.14",), said="undefined symbol"),
    Case("a loader's variable leads to a foreign copy", ZLIB.replace("-Wl,-rpath,'$ORIGIN/../lib'", "") + WRAPPER + "echo 'int x;' > tmp/x.c; build opt/tide/lib/libz.so.1 -shared -fPIC tmp/x.c -Wl,-soname,libz.so.1", "/opt/tide/tide.sh", ("/opt/tide/lib/libz.so.1",), said="symbol"),
    Case("the loader's cache is behind", PLAIN + "mv opt/tide/lib/libebb.so.2 usr/local/lib", TIDE, ("/usr/local/lib/libebb.so.2", "cache"), said=NO_LIBRARY),
    Case("the loader's cache is empty", PLAIN + "echo /opt/tide/lib > etc/ld.so.conf.d/tide.conf; in_root ldconfig; : > etc/ld.so.cache", TIDE, ("libebb.so.2", "cache"), said=NO_LIBRARY),
    Case("a folder's setting for the loader is gone", PLAIN + "echo /opt/tide/lib > etc/ld.so.conf.d/tide.conf; rm etc/ld.so.conf.d/tide.conf; in_root ldconfig", TIDE, ("/opt/tide/lib/libebb.so.2",), said=NO_LIBRARY),
    Case("what is preloaded is gone", "echo /opt/old/libwatch.so > etc/ld.so.preload", "curl --version >/dev/null", ("/etc/ld.so.preload", "/opt/old/libwatch.so"), said="cannot be preloaded"),
    Case("a system that is older than the application", VENDOR.replace("tmp/tide.c -L", "tmp/tide.c -Ltmp/new -L").replace("echo '#include", "mkdir tmp/new; echo 'int dusk(void) { return 1; }' > tmp/n.c; echo 'GLIBC_2.99 { global: dusk; };' > tmp/n.map; build tmp/new/libnew.so -shared -fPIC -nostdlib tmp/n.c -Wl,-soname,libc.so.6 -Wl,--version-script=tmp/n.map; echo '#include").replace("ebb());", "ebb() + dusk());").replace("int ebb(void); int main", "int ebb(void); int dusk(void); int main").replace("-lebb", "-lebb tmp/new/libnew.so"), TIDE, ("GLIBC_2.99",), remedy=False, said="GLIBC_2.99"),
    Case("a symbol came with a newer library", VENDOR + "echo 'int flow(void) { return 7; }' > tmp/ebb.c; build opt/tide/lib/libebb.so.2 -shared -fPIC -Wl,-soname,libebb.so.2 tmp/ebb.c", TIDE, ("ebb", "libebb.so.2"), remedy=False, said="undefined symbol: ebb"),
    Case("a library that the distribution has no more", VENDOR.replace("libebb.so.2", "libssl.so.1.1") + "rm opt/tide/lib/libssl.so.1.1", TIDE, ("libssl.so.1.1",), remedy=False, said=NO_LIBRARY),
    Case("a library of a library is gone", f"rm {L}/libunistring.so.2.*", "curl --version", ("libunistring.so.2",), said=NO_LIBRARY),
    Case("the runtime of C++ is gone", f"rm {L}/libstdc++.so.6.*", "apt-get --version", ("libstdc++.so.6",), said=NO_LIBRARY),
    Case("a library of 32 bits lies in the way", PLAIN + WRAPPER + "printf '\\177ELF\\1\\1\\1' > tmp/h; dd if=tmp/h of=opt/tide/lib/libebb.so.2 conv=notrunc 2>&1", "/opt/tide/tide.sh", ("libebb.so.2", "32-bit"), remedy=False, said="ELFCLASS32"),
]  # fmt: skip

PROGRAMS = [
    Case("a program is gone", "rm usr/bin/curl", "curl --version", ("/usr/bin/curl", "curl"), said="not found"),
    Case("a program is empty", ": > usr/bin/curl", "curl --version | grep -q libcurl", ("/usr/bin/curl",), said="", remedy=True),
    Case("a program is cut off", "truncate -s 30000 usr/bin/curl", "curl --version", ("/usr/bin/curl", "truncated")),
    Case("a program may not be run", "chmod 644 usr/bin/curl", "curl --version", ("/usr/bin/curl",), said="Permission denied"),
    Case("a vendor's program may not be run", VENDOR + "chmod 644 opt/tide/bin/tide", TIDE, (TIDE,), said="Permission denied"),
    Case("a program is for another processor", VENDOR + "printf '\\267' | dd of=opt/tide/bin/tide bs=1 seek=18 conv=notrunc 2>&1", TIDE, (TIDE, "aarch64"), remedy=False, said="cannot execute binary file"),
    Case("the loader that a program names is not there", VENDOR + "sed -i 's|/lib64/ld-linux-x86-64.so.2|/lib64/ld-linux-x86-64.so.9|' opt/tide/bin/tide", TIDE, (TIDE, "/lib64/ld-linux-x86-64.so.9"), remedy=False, said="cannot execute: required file not found"),
    Case("a script has the line ends of Windows", "printf '#!/bin/sh\\r\\necho tide\\r\\n' > opt/tide.sh; chmod +x opt/tide.sh", "/opt/tide.sh", ("/opt/tide.sh", "carriage return"), said="", gives="tide"),
    Case("the interpreter of a script is not there", "printf '#!/usr/bin/python2\\nprint(1)\\n' > opt/old; chmod +x opt/old", "/opt/old", ("/usr/bin/python2",), remedy=False, said="cannot execute"),
    Case("a script's interpreter is looked for", "printf '#!/usr/bin/env node\\n' > opt/harbour; chmod +x opt/harbour", "/opt/harbour", ("node",), remedy=False, said="node"),
    Case("a wrapper starts what is gone", VENDOR + WRAPPER + "rm opt/tide/bin/tide", "/opt/tide/tide.sh", (TIDE,), remedy=False, said="not found"),
    Case("a wrapper's library is gone", PLAIN + WRAPPER + "rm opt/tide/lib/libebb.so.2", "/opt/tide/tide.sh", ("libebb.so.2",), remedy=False, said=NO_LIBRARY),
    Case("a wrapper wants java", "mkdir -p opt/quay; printf '#!/bin/sh\\nexec java -jar /opt/quay/quay.jar\\n' > opt/quay/quay; chmod +x opt/quay/quay", "/opt/quay/quay", ("java",), remedy=False, said="java: not found"),
    Case("an alternative leads to nothing", "rm etc/alternatives/php; ln -s /usr/bin/php7.4 etc/alternatives/php", "php --version", ("php7.4",), said="not found"),
    Case("an alternative's link is gone", "rm usr/bin/php", "php --version", ("/usr/bin/php",), said="not found"),
    Case("a page was downloaded instead of a program", VENDOR + "echo '<!DOCTYPE html><html><body>Not found</body></html>' > opt/tide/bin/tide", TIDE, (TIDE, "HTML"), remedy=False, said=""),
    Case("a folder of programs is mounted without the right to run", "mkdir -p opt/m; mount -t tmpfs -o noexec tmpfs opt/m; printf '#!/bin/sh\\necho tide\\n' > opt/m/tide; chmod +x opt/m/tide", "/opt/m/tide", ("/opt/m", "noexec"), remedy=False, said="Permission denied"),
    Case("sudo has lost its right", "chmod u-s usr/bin/sudo", "sudo -n -l; [ $? -eq 1 ]", ("/usr/bin/sudo",), user="nobody", said="setuid"),
    Case("ping has lost its capability", "rm usr/bin/ping; cp usr/bin/true tmp; cp --preserve=mode usr/bin/ping4 tmp/p 2>/dev/null || :; in_root sh -c 'apt-get -qq download iputils-ping >/dev/null 2>&1; dpkg-deb --fsys-tarfile iputils-ping*.deb | tar -xO ./bin/ping > /usr/bin/ping; rm iputils-ping*.deb; chmod 755 /usr/bin/ping'", "ping -c1 127.0.0.1", ("/usr/bin/ping",), user="nobody", said="not permitted"),
    Case("a package's plug-in is gone", "rm usr/libexec/sudo/sudoers.so", "sudo -n true", ("/usr/libexec/sudo/sudoers.so",), said="sudoers.so"),
    Case("a plug-in belongs to another", "chown nobody usr/libexec/sudo/sudoers.so", "sudo -n true", ("/usr/libexec/sudo/sudoers.so",), said="uid 0"),
    Case("a folder for all was closed", "chmod 755 tmp", "touch /tmp/it && rm /tmp/it", ("/tmp",), remedy=False, user="nobody", said="Permission denied"),
]  # fmt: skip

RUNTIMES = [
    Case("a module of Python is gone", f"rm {PY}/json/decoder.py; rm -rf {PY}/json/__pycache__", "python3 -c 'import json'", ("json/decoder.py", "libpython3.11-stdlib"), said="json.decoder"),
    Case("a package of Python is gone", f"rm -rf {PY}/email", "python3 -c 'import email'", ("email", "libpython3.11"), said="email"),
    Case("an extension of Python is gone", f"rm {PY}/lib-dynload/_bz2.cpython-311-x86_64-linux-gnu.so; rm -f {PY}/x", "python3 -c 'import bz2'", ("_bz2", "libpython3.11-stdlib"), said="_bz2"),
    Case("the library of an extension is gone", f"rm {L}/libffi.so.8.*", "python3 -c 'import ctypes'", ("libffi.so.8",), said=NO_LIBRARY),
    Case("an extension for another Python", "mkdir -p opt/tide; echo 'int x;' > tmp/x.c; build opt/tide/_tide.cpython-310-x86_64-linux-gnu.so -shared -fPIC tmp/x.c", "cd /opt/tide && PYTHONPATH=/opt/tide python3 -c 'import _tide'", ("_tide",), remedy=False, said="_tide"),
    Case("an environment's Python is gone", "in_root python3 -m venv --without-pip /opt/env; ln -sfn /usr/bin/python3.9 opt/env/bin/python3; printf '#!/opt/env/bin/python3\\nprint(\"tide\")\\n' > opt/env/bin/tide; chmod +x opt/env/bin/tide", "/opt/env/bin/tide", ("/opt/env/bin/python3", "/usr/bin/python3.9"), said="cannot execute"),
    Case("a module of Perl is gone", f"rm {L}/perl/5.36/Data/Dumper.pm", "perl -MData::Dumper -e 1", ("Data/Dumper.pm", "libperl5.36"), said="Dumper.pm"),
    Case("a library of Perl is cut off", f"truncate -s 5000 {L}/perl/5.36/auto/POSIX/POSIX.so", "perl -MPOSIX -e 1", ("POSIX.so", "truncated")),
    Case("an extension of Ruby is gone", f"rm {L}/ruby/3.1.0/json/ext/parser.so; rm -rf usr/share/rubygems-integration/all/gems/json* usr/lib/ruby/gems/*/extensions/*/*/json*", "ruby -rjson -e 'puts 1'", ("json/ext/parser",), said="json/ext/parser"),
    Case("an extension of PHP is gone", "rm usr/lib/php/20220829/mbstring.so", "php -r 'exit(extension_loaded(\"mbstring\") ? 0 : 1);'", ("mbstring.so", "php8.2-mbstring"), said="mbstring"),
    Case("the library of an extension of PHP is gone", f"rm {L}/libonig.so.5.*", "php -r 'exit(extension_loaded(\"mbstring\") ? 0 : 1);'", ("libonig.so.5",), said=NO_LIBRARY),
    Case("a module of the web server is gone", "rm usr/lib/apache2/modules/mod_alias.so", "apache2ctl -t", ("mod_alias.so",), said="mod_alias.so"),
    Case("a module of the web server is empty", ": > usr/lib/apache2/modules/mod_alias.so", "apache2ctl -t", ("mod_alias.so", "empty"), said="file too short"),
    Case("a library of the web server is gone", f"rm {L}/libaprutil-1.so.0.*", "apache2ctl -t", ("libaprutil-1.so.0",), said=NO_LIBRARY),
    Case("a module of the other web server is gone", "rm usr/lib/nginx/modules/ngx_http_echo_module.so", "nginx -t", ("ngx_http_echo_module.so", "libnginx-mod-http-echo"), said="ngx_http_echo"),
    Case("a set of characters cannot be converted", f"rm {L}/gconv/EUC-JP.so", "echo a | iconv -f EUC-JP -t UTF-8", ("EUC-JP.so",), said="iconv"),
    Case("a provider of ciphers is gone", f"rm {L}/ossl-modules/legacy.so", "echo a | openssl md4 -provider legacy -provider default", ("legacy.so",), said="legacy"),
    Case("a reader of pictures is gone", f"rm {L}/ImageMagick-6.9.11/modules-Q16/coders/gif.so", "convert -size 2x2 xc:red gif:/tmp/it.gif", ("gif.so",), said="gif"),
    Case("the library of a reader of pictures is gone", f"rm {L}/libtiff.so.6.*", "gdk-pixbuf-thumbnailer --version >/dev/null; /usr/lib/x86_64-linux-gnu/gdk-pixbuf-2.0/gdk-pixbuf-query-loaders | grep -q tiff", ("libtiff.so.6",), said=NO_LIBRARY),
    Case("a plug-in for media lacks a library", f"rm {L}/libdw-0*.so {L}/libdw.so.1; : ", "gst-inspect-1.0 coretracers >/dev/null", ("libdw.so.1",), said=NO_LIBRARY),
    Case("an account's module is gone", f"rm {L}/security/pam_permit.so", "su nobody -s /bin/sh -c true", ("pam_permit.so", "libpam-modules"), said="Module is unknown"),
    Case("the library of an account's module is gone", f"rm {L}/libpam_misc.so.0.*", "su root -c true", ("libpam_misc.so.0",), said=NO_LIBRARY),
    Case("what tells kinds of files is gone", "rm usr/lib/file/magic.mgc", "file /bin/true", ("magic.mgc", "libmagic-mgc"), said="magic"),
    Case("a description of a terminal is gone", "rm lib/terminfo/v/vt100 || rm usr/lib/terminfo/v/vt100", "TERM=vt100 tput cols", ("vt100",), said="vt100"),
    Case("the database of packages is empty", ": > var/lib/dpkg/status", "dpkg -s bash", ("/var/lib/dpkg/status",), said="no information is available"),
    Case("the database of packages is damaged", "sed -i '200s/^/garbage garbage\\n/' var/lib/dpkg/status", "dpkg -l", ("/var/lib/dpkg/status",), said="parsing file"),
    Case("the certificates of authorities are gone", "rm etc/ssl/certs/ca-certificates.crt", "openssl crl2pkcs7 -nocrl -certfile /etc/ssl/certs/ca-certificates.crt >/dev/null", ("/etc/ssl/certs/ca-certificates.crt",), said="No such file"),
    Case("a program of the loader's own is gone", "rm usr/bin/ldd", "ldd /bin/true", ("/usr/bin/ldd", "libc-bin"), said="not found"),
    Case("a compressor's library is gone", f"rm {L}/liblzma.so.5.*", "xz --version", ("liblzma.so.5",), said=NO_LIBRARY),
    Case("a library came from another package", f"cp {L}/libz.so.1 {L}/libnghttp2.so.14.24.1 2>/dev/null || cp {L}/libz.so.1 $(readlink -f {L}/libnghttp2.so.14)", "curl --version", ("libnghttp2.so.14",), said="symbol"),
]  # fmt: skip

# These were made later, and worked with from their first run on.
APPLICATION = "mkdir -p opt/app/bin opt/app/lib; echo 'int tide(void){return 1;}' > tmp/t.c; echo 'int tide(void);int main(void){return tide()-1;}' > tmp/m.c; build opt/app/lib/libtide.so.1 -shared -fPIC -Wl,-soname,libtide.so.1 tmp/t.c; build opt/app/bin/tided tmp/m.c opt/app/lib/libtide.so.1 "
FURTHER = [
    Case("a table of a character set is gone", f"rm {L}/gconv/SJIS.so", "echo a | iconv -f SJIS -t UTF-8", ("SJIS.so",), was_seen=True),
    Case("the list of character sets is gone", f"rm {L}/gconv/gconv-modules.d/gconv-modules-extra.conf; rm -f {L}/gconv/gconv-modules.cache", "echo a | iconv -f SJIS -t UTF-8", ("gconv",), was_seen=True),
    Case("a provider of OpenSSL is gone", f"rm {L}/ossl-modules/legacy.so", "echo a | openssl md4 -provider legacy -provider default", ("legacy.so",), was_seen=True),
    Case("the library of a module of the web server is gone", f"rm {L}/libxml2.so.2.*; in_root a2enmod proxy_html xml2enc >/dev/null 2>&1 || :", "apache2ctl -t", ("libxml2.so.2",), was_seen=True),
    Case("a module that the settings of nginx name is gone", "rm usr/lib/nginx/modules/ngx_http_echo_module.so", "nginx -t", ("ngx_http_echo_module.so",), was_seen=True),
    Case("settings of PHP name an extension that is not installed", "echo 'extension=redis' > etc/php/8.2/cli/conf.d/99-redis.ini", 'php -r \'exit(extension_loaded("redis")?0:1);\'', ("redis",), remedy=False, was_seen=True),
    Case("an extension is built for another Python", "mkdir -p opt/app; cp usr/lib/python3.11/lib-dynload/_json.cpython-311-x86_64-linux-gnu.so opt/app/_tide.cpython-310-x86_64-linux-gnu.so", "cd /opt/app && python3 -c 'import _tide'", ("cpython-310",), remedy=False, was_seen=True),
    Case("an extension of Python's own is gone", "rm usr/lib/python3.11/lib-dynload/_ssl.cpython-311-x86_64-linux-gnu.so", "python3 -c 'import ssl'", ("_ssl.cpython-311",), was_seen=True),
    Case("the library of Python's own extension is gone", f"rm {L}/libssl.so.3", "python3 -c 'import ssl'", ("libssl.so.3",), was_seen=True),
    Case("the library of an extension of Ruby is gone", f"rm {L}/libyaml-0.so.2*", "ruby -ryaml -e 'puts 1'", ("libyaml-0.so.2",), was_seen=True),
    Case("the settings of sudo belong to another", "chown nobody etc/sudoers", "sudo -n true", ("/etc/sudoers",), was_seen=True),
    Case("what is preloaded is no library", "echo garbage > etc/ld.so.preload", "curl --version >/dev/null", ("ld.so.preload",), said="cannot be preloaded", was_seen=True),
    Case("an application is on a file system without running", "mkdir opt/app; cp usr/bin/true opt/app/tide; mount -t tmpfs -o noexec none opt/app; cp usr/bin/true opt/app/tide", "/opt/app/tide", ("noexec",), said="Permission denied", was_seen=True),
    Case("a folder of settings was closed", "chmod 700 etc/ssl", "curl -sS file:///etc/ssl/openssl.cnf >/dev/null", ("/etc/ssl",), user="nobody", was_seen=True),
    Case("the folder of certificates is gone", "rm -rf etc/ssl/certs", "curl -sS https://localhost:1 ; openssl verify -CAfile /etc/ssl/certs/ca-certificates.crt /etc/ssl/certs/ca-certificates.crt", ("ca-certificates",), was_seen=True),
    Case("the elements of media are gone", f"rm {L}/gstreamer-1.0/libgstcoreelements.so", "gst-launch-1.0 fakesrc num-buffers=1 ! fakesink", ("libgstcoreelements.so",), was_seen=True),
    Case("the data of a locale is gone", "rm -rf usr/lib/locale/C.utf8", "LC_ALL=C.UTF-8 perl -e 'print 1' 2>&1; LC_ALL=C.UTF-8 locale -k LC_TIME | grep -q UTF || { LC_ALL=C.UTF-8 perl -e 1; exit 1; }", ("C.utf8",), was_seen=True),
    Case("the time zones of a continent are gone", "rm -rf usr/share/zoneinfo/Europe; rm -rf usr/share/zoneinfo/posix", 'python3 -c \'import zoneinfo; zoneinfo.ZoneInfo("Europe/Vienna")\'', ("zoneinfo/Europe/Vienna",), was_seen=True),
    Case("the library of the pictures' programs is gone", f"rm {L}/libMagickCore-6.Q16.so.6*", "convert -version", ("libMagickCore-6.Q16.so.6",), was_seen=True),
    Case("a script starts a runtime that is not installed", "mkdir -p opt/app; printf '#!/bin/sh\\nexec java -jar /opt/app/tide.jar\\n' > opt/app/run.sh; chmod 755 opt/app/run.sh", "/opt/app/run.sh", ("java",), said="java", was_seen=True),
    Case("a package is only half configured", "sed -i '/^Package: file$/,/^$/s/^Status: .*/Status: install ok half-configured/' var/lib/dpkg/status", "dpkg --audit; exit 1", ("file",), remedy=False, was_seen=True),
    Case("the library of the package manager is gone", f"rm {L}/libapt-pkg.so.6.0.0", "apt-get --version", ("libapt-pkg.so.6.0",), was_seen=True),
    Case("a run path leads to the folder of its build", "mkdir -p opt/app/bin opt/app/lib tmp/b; echo 'int tide(void){return 1;}' > tmp/t.c; echo 'int tide(void);int main(void){return tide()-1;}' > tmp/m.c; build opt/app/lib/libtide.so.1 -shared -fPIC -Wl,-soname,libtide.so.1 tmp/t.c; build opt/app/bin/tide tmp/m.c opt/app/lib/libtide.so.1 -Wl,-rpath,/home/builder/out/lib", "/opt/app/bin/tide", ("/opt/app/lib/libtide.so.1",), was_seen=True),
    Case("a library is gone that a compressor loads", f"rm {L}/liblzma.so.5.*", "xz --version", ("liblzma.so.5",), was_seen=True),
    Case("a program is cut off", "truncate -s 3000 usr/bin/zstd", "zstd --version", ("zstd",), was_seen=True),
    Case("a module of Perl's own is gone", f"rm {L}/perl-base/Errno.pm {L}/perl/5.36/Errno.pm; :", "perl -MErrno -e 1", ("Errno.pm",), was_seen=True),
    Case("a folder of Python is gone", "rm -r usr/lib/python3.11/encodings", "python3 -c 1", ("/usr/lib/python3.11/encodings",), was_seen=True),
    Case("the link of a program is gone", "rm usr/bin/python3", "python3 -c 1", ("/usr/bin/python3",), was_seen=True),
    Case("a library of PHP is gone", f"rm {L}/libxml2.so.2*", "php -v", ("libxml2.so.2",), was_seen=True),
    Case("a module of Ruby is gone", "rm usr/lib/ruby/3.1.0/set.rb", "ruby -rset -e 'puts Set.new([1]).size'", ("set.rb",), was_seen=True),
    Case("a runtime's program is gone", "rm usr/bin/ruby3.1", "ruby -v", ("ruby3.1",), was_seen=True),
    Case("a settings file that another includes is gone", "rm etc/nginx/mime.types", "nginx -t", ("/etc/nginx/mime.types",), was_seen=True),
    Case("the user of a server is gone", "sed -i '/^www-data/d' etc/passwd", "nginx -t", ("www-data",), remedy=False, was_seen=True),
    Case("the variables of the web server are gone", "rm etc/apache2/envvars", "apache2ctl -t", ("/etc/apache2/envvars",), was_seen=True),
    Case("a settings file of PAM is gone", "rm etc/pam.d/common-auth", "su root -c true", ("common-auth",), remedy=False, was_seen=True),
    Case("a library of sudo is gone", "rm usr/libexec/sudo/libsudo_util.so.0.0.0", "sudo -V", ("libsudo_util.so.0",), was_seen=True),
    Case("a vendor's library is of another processor", APPLICATION + "-Wl,-rpath,'$ORIGIN/../lib'; printf '\\267' | dd of=opt/app/lib/libtide.so.1 bs=1 seek=18 conv=notrunc 2>&1", "/opt/app/bin/tided", ("libtide.so.1", "aarch64"), remedy=False, was_seen=True),
    Case("a vendor's library may not be read", APPLICATION + "-Wl,-rpath,'$ORIGIN/../lib'; chmod 600 opt/app/lib/libtide.so.1", "/opt/app/bin/tided", ("libtide.so.1", "0600"), user="nobody", was_seen=True),
    Case("a wrapper names the wrong folder", APPLICATION + '; printf \'#!/bin/bash\\nD=$(cd "$(dirname "$0")" && pwd)\\nexport LD_LIBRARY_PATH=$D/libs\\nexec "$D/bin/tided"\\n\' > opt/app/run; chmod 755 opt/app/run', "/opt/app/run", ("/opt/app/lib/libtide.so.1",), was_seen=True),
    Case("a command is a link to nothing", APPLICATION + "-Wl,-rpath,'$ORIGIN/../lib'; ln -s /opt/app/bin/tide usr/local/bin/tide", "tide", ("/opt/app/bin/tide",), remedy=False, was_seen=True),
    Case("a path with blanks asks for a loader that is gone", "mkdir -p 'opt/my app'; echo 'int main(void){return 0;}' > tmp/m.c; build 'opt/my app/t' tmp/m.c -Wl,--dynamic-linker=/lib/ld-gone.so.2", "'/opt/my app/t'", ("/lib/ld-gone.so.2",), remedy=False, was_seen=True),
    Case("a script asks for an older interpreter", "printf '#!/usr/bin/env python2\\nprint 1\\n' > usr/local/bin/old; chmod 755 usr/local/bin/old", "old", ("python2",), remedy=False, was_seen=True),
    Case("the library of capabilities is gone", f"rm {L}/libcap.so.2*", "getcap /bin/true", ("libcap.so.2",), was_seen=True),
    Case("a program of a package is gone", "rm usr/bin/hexdump", "hexdump /dev/null", ("hexdump", "bsdextrautils"), was_seen=True),
    Case("all descriptions of terminals are gone", "rm -rf lib/terminfo usr/lib/terminfo usr/share/terminfo", "TERM=xterm tput cols", ("xterm",), was_seen=True),
    Case("a table and the list of character sets are damaged", f": > {L}/gconv/gconv-modules.cache; rm {L}/gconv/UTF-16.so", "echo a | iconv -t UTF-16", ("UTF-16.so",), was_seen=True),
    Case("a unit starts a program that lacks its library", APPLICATION + "-Wl,-rpath,'$ORIGIN/../lib'; rm opt/app/lib/libtide.so.1; printf '[Service]\\nExecStart=/opt/app/bin/tided\\n' > etc/systemd/system/tide.service", "echo 'systemd[1]: tide.service: Main process exited, code=exited, status=127/n/a'; exit 1", ("libtide.so.1",), remedy=False, was_seen=True),
    Case("a line to preload was left by a removed package", "echo /usr/lib/libfaketime.so.1 > etc/ld.so.preload", "ls / 2>&1 >/dev/null | tee /tmp/o; [ ! -s /tmp/o ]", ("/etc/ld.so.preload", "libfaketime.so.1"), was_seen=True),
    Case("a module of Python has garbage at its end", "echo 'def (' >> usr/lib/python3.11/json/__init__.py", "python3 -c 'import json'", ("/usr/lib/python3.11/json/__init__.py",), was_seen=True),
    Case("a module of Python was never installed", "printf 'import yaml\\nprint(yaml.safe_load(\"1\"))\\n' > opt/a.py", "python3 /opt/a.py", ("python3-yaml",), was_seen=True),
    Case("a module of Perl was never installed", "true", "perl -MJSON::XS -e 1", ("libjson-xs-perl",), was_seen=True),
    Case("a module of Ruby was never installed", "true", "ruby -rsequel -e 1", ("ruby-sequel",), was_seen=True),
    Case("a command was never installed", "true", "jq --version", ("jq",), was_seen=True),
    Case("all may write to the settings of sudo", "chmod 666 etc/sudoers", "sudo -l", ("/etc/sudoers",), was_seen=True),
    Case("the first script of Tcl is gone", "rm usr/share/tcltk/tcl8.6/init.tcl", "echo 'puts [info tclversion]; exit 0' | tclsh 2>&1 | tee /tmp/o; ! grep -q usable /tmp/o", ("init.tcl",), was_seen=True),
    Case("only the link to a vendor's library is gone", APPLICATION + "-Wl,-rpath,'$ORIGIN/../lib'; mv opt/app/lib/libtide.so.1 opt/app/lib/libtide.so.1.0.3", "/opt/app/bin/tided", ("libtide.so.1", "libtide.so.1.0.3"), was_seen=True),
    Case("a vendor's interpreter may not be run", "mkdir -p opt/app; cp bin/dash opt/app/sh; chmod 644 opt/app/sh; printf '#!/opt/app/sh\\nexit 0\\n' > opt/app/run; chmod 755 opt/app/run", "/opt/app/run", ("/opt/app/sh",), was_seen=True),
    Case("the settings of OpenSSL are gone", "rm etc/ssl/openssl.cnf", "openssl req -new -x509 -nodes -keyout /dev/null -subj /CN=x -out /dev/null", ("/etc/ssl/openssl.cnf",), was_seen=True),
    Case("the folder of a server's logs is gone", "rm -rf var/log/nginx", "nginx -t", ("/var/log/nginx",), was_seen=True),
]  # fmt: skip

CASES = [*LIBRARIES, *PROGRAMS, *RUNTIMES, *FURTHER]
