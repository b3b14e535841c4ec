#!/bin/sh
# Gather what Fundamen asks of programs, on a machine that has no Python:
#
#     sh gather.sh PROGRAM... >office.gathered
#     sh gather.sh --all | gzip >office.gathered
#
# Copy the file to a machine with Fundamen, and make a capture of it there:
#
#     fundamen capture office.capture --from office.gathered
#
# It runs none of the programs, and writes nothing but its output and a folder for itself, which it removes. It takes in:
# names, sizes and rights of files in the folders of programs and libraries; the bytes of the programs and of all files
# that are called as a library they name; the loader's settings; what the package database has of these files; and the
# variables PATH, LD_*, JAVA_HOME, DOTNET_ROOT, LANG, SSL_CERT_*. With --all, it takes in the bytes of every program,
# library and script in these folders, the certificates that the system trusts, and the names of what is below /etc.
# docs/formats/gathered.md describes the form.
set -u
LC_ALL=C
export LC_ALL
umask 077

all=no
if [ "${1:-}" = --all ]; then
  all=yes
  shift
elif [ $# -eq 0 ]; then
  echo "Usage: sh gather.sh PROGRAM... >office.gathered, or sh gather.sh --all | gzip >office.gathered" >&2
  exit 2
fi
own=${TMPDIR:-/tmp}/fundamen-gather.$$
mkdir "$own" || exit 3
trap 'rm -rf "$own"' EXIT
trap 'exit 130' INT TERM

break='
' # names with a break of line are left out

whole_path() { # a path from the root on, without links in its folder
  case $1 in
    /*) set -- "$1" ;;
    *) set -- "$PWD/$1" ;;
  esac
  folder=$(cd -P "$(dirname "$1")" 2>/dev/null && pwd -P) || { echo "$1"; return; }
  echo "${folder%/}/$(basename "$1")"
}

leads_to() { # where a link leads
  target=$(ls -ldn "$1" | sed 's/.* -> //')
  case $target in /*) ;; *) target=$(dirname "$1")/$target ;; esac
  whole_path "$target"
}

say() { # how far it is, to a person at a terminal
  if [ -t 2 ]; then printf '\r%-70s' "$*" >&2; fi
}

unknown_to() { # those lines that are not in a file
  awk -v file="$1" 'BEGIN { while ((getline line <file) > 0) known[line] = 1 } !($0 in known)'
}

printf 'fundamen-gathered 1\n'
printf 'host %s\n' "$(uname -n)"
printf 'time %s\n' "$(date -u +%Y-%m-%dT%H:%M:%SZ)"
: >"$own/waiting"
: >"$own/typed"
for program; do
  if [ ! -f "$program" ]; then
    echo "gather.sh: $program is no file. Nothing was gathered of it." >&2
    continue
  fi
  case $program in /*) ;; *) program=$PWD/$program ;; esac
  printf 'program %s\n' "$program"
  echo "$program" >>"$own/typed"
  whole_path "$program" >>"$own/waiting"
done
if [ $all = yes ]; then printf 'all\n'; elif [ ! -s "$own/waiting" ]; then exit 3; fi
env | grep -E '^(PATH|LD_[A-Z_]+|JAVA_HOME|DOTNET_ROOT|LANG|SSL_CERT_[A-Z]+)=' | sed 's/^/environment /'

# The folders of which every name is told.
{
  printf '%s\n' /bin /sbin /lib /lib32 /lib64 /libx32 /usr/bin /usr/sbin /usr/lib /usr/lib32 /usr/lib64 /usr/libx32 \
    /usr/libexec /usr/local /opt
  sed 's|/[^/]*$||; s|^$|/|' "$own/waiting"
  sed 's|/[^/]*/[^/]*$|/lib|' "$own/waiting"
  cat /etc/ld.so.conf /etc/ld.so.conf.d/*.conf 2>/dev/null | sed 's/#.*//' | grep '^/'
  echo "${LD_LIBRARY_PATH:-}" | tr ':;' '\n\n' | grep '^/'
  if [ $all = yes ]; then
    printf '%s\n' /usr /etc /run/systemd/system /var/lib/dpkg/updates
    echo "${PATH:-}" | tr ':' '\n' | grep '^/'
  fi
} | sed 's|//*|/|g; s|\(.\)/$|\1|' | sort -u | while IFS= read -r folder; do
  case $folder in / | /tmp | /home | /root | /proc* | /sys* | /dev*) continue ;; esac # too much, or no files
  if [ -d "$folder" ] || [ -h "$folder" ]; then echo "$folder"; fi
done | awk '{ for (i = 1; i <= n; i++) if (index($0, kept[i] "/") == 1 && !link[kept[i]]) next; kept[++n] = $0; print }' >"$own/folders"
say "Listing folders ..."
while IFS= read -r folder; do
  printf 'whole %s\n' "$folder"
  find "$folder" -name "*$break*" -prune -o -exec ls -ldn {} + 2>>"$own/errors"
done <"$own/folders" >"$own/found"
grep '^whole ' "$own/found"
if [ $all = yes ]; then # of what is not there nothing is in it
  for folder in /run/systemd/system /var/lib/dpkg/updates; do [ -e "$folder" ] || printf 'whole %s\n' "$folder"; done
fi
grep -v '^whole ' "$own/found" >"$own/listing"
sed -n "s/^find: .\(\/.*\).: Permission denied\$/barred \1/p" "$own/errors"

# Every file and link by its last name.
sed -n 's/^[-l][^ ]*  *[0-9]*  *[0-9]*  *[0-9]*  *[0-9]*  *[A-Z][a-z][a-z]  *[0-9]*  *[0-9:]* //p' "$own/listing" |
  sed 's/ -> .*//' | awk '{ name = $0; sub(/.*\//, "", name); if (name ~ /\.so(\.|$)/ || name ~ /^ld[-.]/) print name "\t" $0 }' >"$own/places"

: >"$own/gathered"
if [ $all = yes ]; then
  say "Looking for programs and libraries ..."
  # Every program, library and script: what anybody may run, or what is called as a library, by how it begins.
  awk 'substr($0, 1, 1) == "-" { kind = $1; at = index($0, " /"); name = $0; sub(/.*\//, "", name)
    if (kind ~ /^-..[xs]|^-.....[xs]|^-........[xt]/ || name ~ /\.(so|node)/) print substr($0, at + 1) }' "$own/listing" |
    while IFS= read -r path; do
      case $path in /etc/*) continue ;; esac
      case $(dd if="$path" bs=4 count=1 2>/dev/null | tr -c '!-~' 'x') in
        xELF | '#!'*) echo "$path" ;;
      esac
    done >"$own/gathered"
fi
# From file to file: all that are called as something that it names.
: >"$own/named"
while [ -s "$own/waiting" ]; do
  : >"$own/next"
  sort -u "$own/waiting" | unknown_to "$own/gathered" >"$own/now"
  : >"$own/names"
  while IFS= read -r path; do
    echo "$path" >>"$own/gathered"
    if [ -h "$path" ]; then
      leads_to "$path" >>"$own/next"
      continue
    fi
    if [ ! -f "$path" ] || [ ! -r "$path" ]; then continue; fi
    tr -c '!-~' '\n' <"$path" | grep -E '^[^ ]*(\.so(\.[0-9.]+)?|/ld[-.][^/]*)$' | sed 's|.*/||' >>"$own/names"
    first=$(head -n 1 "$path" | tr -d '\0' | sed -n 's/^#! *\([^ ]*\)  *\([^ ]*\).*/\1 \2/p; t; s/^#! *\([^ ]*\)$/\1/p')
    case $first in
      */env\ *) command -v "${first#* }" >>"$own/next" ;;
    esac
    case $first in /*) whole_path "${first%% *}" >>"$own/next" ;; esac
  done <"$own/now"
  sort -u "$own/names" | unknown_to "$own/named" >"$own/new"
  cat "$own/new" >>"$own/named"
  awk -F '\t' 'NR == FNR { wanted[$0] = 1; next } $1 in wanted { print $2 }' "$own/new" "$own/places" >>"$own/next"
  mv "$own/next" "$own/waiting"
done

# The loader's and the package manager's own files.
: >"$own/settings"
for path in /etc/ld.so.cache /etc/ld.so.conf /etc/ld.so.conf.d/* /etc/ld.so.preload /etc/ld-musl-*.path /etc/os-release \
  /usr/lib/os-release /etc/debian_version /proc/cpuinfo /var/lib/dpkg/status /var/lib/dpkg/arch /var/lib/dpkg/diversions; do
  if [ -f "$path" ]; then echo "$path" >>"$own/settings"; fi
done
if [ $all = yes ]; then # whom it trusts
  for path in "${SSL_CERT_FILE:-}" /etc/ssl/certs/ca-certificates.crt /etc/pki/ca-trust/extracted/pem/tls-ca-bundle.pem \
    /etc/ssl/ca-bundle.pem /etc/ssl/cert.pem; do
    if [ -f "$path" ]; then echo "$path"; fi
  done >"$own/bundles"
  [ -s "$own/bundles" ] || find /etc/ssl/certs /etc/pki/tls/certs -type f >"$own/bundles" 2>/dev/null
  find /usr/local/share/ca-certificates /etc/pki/ca-trust/source/anchors -type f >>"$own/bundles" 2>/dev/null
  while IFS= read -r path; do
    echo "$path"
    whole_path "$path"
    if [ -h "$path" ]; then leads_to "$path"; fi
  done <"$own/bundles" >>"$own/settings"
fi
if [ -d /var/lib/dpkg/info ] && [ $all = yes ]; then
  printf 'whole /var/lib/dpkg/info\n'
  find /var/lib/dpkg/info \( -name '*.md5sums' -o -name '*.list' \) >>"$own/settings"
elif [ -d /var/lib/dpkg/info ]; then
  printf 'whole /var/lib/dpkg/info\n' # of what concerns these files
  sed 's|.*/|/|' "$own/gathered" | sort -u >"$own/ends"
  find /var/lib/dpkg/info -name '*.md5sums' -exec grep -lF -f "$own/ends" {} + >>"$own/settings" 2>/dev/null
  find /var/lib/dpkg/info -name '*.list' -exec grep -lF -f "$own/ends" {} + >>"$own/settings" 2>/dev/null
fi
cat "$own/gathered" >>"$own/settings"
sort -u "$own/settings" >"$own/files"

# Where each of them stands: also the folders above.
awk '{ path = $0; while (path != "") { if (!(path in told)) { told[path] = 1; print path } sub(/\/[^\/]*$/, "", path) } }
  END { print "/" }' "$own/files" "$own/typed" >"$own/above"
while IFS= read -r path; do ls -ldn "$path" 2>/dev/null; done <"$own/above" >>"$own/listing"

printf 'listing\n'
sort -u "$own/listing"
printf '.\n'
total=0 # KiB; no reader takes more than 16 GiB
count=0
files=$(wc -l <"$own/files" | tr -d ' ')
while IFS= read -r path; do
  count=$((count + 1))
  if [ $((count % 20)) -eq 0 ]; then say "Gathering file $count of $files, $((total / 1024)) MiB"; fi
  if [ -h "$path" ] || [ ! -f "$path" ]; then continue; fi
  if [ $total -ge 16777216 ]; then
    printf 'large %s\n' "$path"
    continue
  fi
  if ! cat "$path" >"$own/file" 2>/dev/null; then
    printf 'refused %s\n' "$path"
    continue
  fi
  if dd if="$own/file" bs=4096 count=1 2>/dev/null | grep -q 'PRIVATE KEY-----'; then # libraries have such words later
    printf 'secret %s\n' "$path"
    continue
  fi
  size=$(wc -c <"$own/file" | tr -d ' ')
  total=$((total + size / 1024 + 1))
  printf 'file %s %s\n' "$size" "$path"
  cat "$own/file"
done <"$own/files"
printf 'end\n'
say "Gathered $files files, $((total / 1024)) MiB."
if [ -t 2 ]; then echo >&2; fi
