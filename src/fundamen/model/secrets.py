"""Find what must not be kept or handed on: passwords, tokens, keys, in whatever form they stand in a text.

One finder serves cases, captures, logs and hand-offs. It knows four kinds of forms: what is a secret by its own shape;
what stands in a place for one (an address, a header, a request); what follows a name that tells of one, as a setting,
an element, an option or a sentence; and what looks drawn at random beside a telling word. What only speaks of secrets
stays.
Sources: RFC 3986, 3.2.1; RFC 7235; RFC 7519; RFC 7468; crypt(5); netrc(5).
"""

import re
from collections.abc import Callable, Iterator
from typing import NamedTuple

BLOT = "[blotted out]"


class Secret(NamedTuple):
    """Where a secret stands in a text."""

    begin: int
    end: int
    kind: str  # in a word or two, for people


# Names that tell of a secret, in the languages of our users. Each may have more words before it, as in DB_PASSWORD.
_FOR_LOGIN = (
    r"pass(?:word|wd|phrase)s?|(?<![A-Za-z])(?:pwd|psk)|passwort|kennwort|zugangsschlüssel|mot[ _-]?de[ _-]?passe|"
    r"contraseña|(?:store|key)pass"
)
_KEYS = (
    r"(?:api|access|account|private|shared|subscription|master|encryption|signing)[ _-]?key|clé[ _-]api|secret[ _-]key"
)
_FOR_ACCESS = r"secret|(?<!public)(?<!publickey)(?<!max_)token|jeton|credential"
_NAME = rf"(?:{_FOR_LOGIN}|{_KEYS}|{_FOR_ACCESS})"
_TELLING = rf"(?:{_NAME}(?:_key_base|_?\d{{1,2}})?|(?<=[_.])pass|(?<![A-Za-z])pin)"
_QUOTED = r"\\?\"[^\"\n\\]*\\?\"|\\?'[^'\n\\]*\\?'"
_PLAIN = r"[^\s\"'<>,;&|)\]}]+"
_VALUE = rf"(?P<value>{_QUOTED}|{_PLAIN})"

# What stands in the place of a value and is none.
_NO_SECRET = re.compile(
    r"""[\\"']*(?:
        true|false|null|none|nil|yes|no|not|is|are|was|the|all|on|off|ok|unset|empty|missing|required|invalid|incorrect|
        wrong|expired|failed|changed|expected|identifier|strong|weak|optional|disabled|enabled|default|unknown|again|prompt|
        file|left|falsch|<[^>]*>?|\$\{?\w*\}?|%\w*%|\$\(.*|\*+|x{3,}|\.{2,}|\[blotted\ out\]|\[blotted|
        os\.environ.*|getenv.*|
    )[\\"'.,:!]*""",
    re.IGNORECASE | re.VERBOSE,
)
_PROSE = re.compile(r"[a-zé]+[.,:!?]?")  # a word: of a token, key or secret nothing but what a sentence says of it
_IS_HEX = re.compile(r"[0-9a-fA-F]+")
_OF_NO_SECRET = re.compile(
    r"sha-?\d|md5|digest|fingerprint|build-?id|commit|public|finger|checksum|guid|uuid", re.IGNORECASE
)


_PARAMETERS = (
    r"\w*token|sig|signature|x-amz-signature|x-amz-security-token|\w*password|pwd|\w*secret|api_?key|key|code|"
    r"auth|session"
)
_SCHEMES = r"(?:basic|bearer|digest|negotiate|ntlm|token(?: token=)?)"


def _always(_found: re.Match[str]) -> bool:
    return True


def _is_value(found: re.Match[str]) -> bool:
    return _NO_SECRET.fullmatch(found["value"]) is None


def _is_setting(found: re.Match[str]) -> bool:
    """Whether a setting's value may be a secret: after a colon, plain words and numbers mostly are not."""
    value, name = found["value"], found["name"].lower()
    if not _is_value(found):
        return False
    if name.endswith("pin"):
        return value.isdigit() and 4 <= len(value) <= 8 and ":" in found["sign"]  # noqa: PLR2004
    is_of_token = re.search(_FOR_ACCESS, name) is not None and re.search(_FOR_LOGIN, name) is None
    is_plain = _PROSE.fullmatch(value) is not None or value.isdigit() or not any(map(str.isalnum, value))
    return not (is_of_token and is_plain and ":" in found["sign"])


def _is_said(found: re.Match[str]) -> bool:
    value = found["value"]
    return _is_value(found) and (value[0] in "\"'" or _looks_chosen(value))


def _is_random(found: re.Match[str]) -> bool:
    """Whether a long string looks drawn at random, and is no digest of something that anybody may know."""
    value, begin = found["value"], found.start("value")
    if _OF_NO_SECRET.search(found.string, max(begin - 60, 0), begin) or (
        _IS_HEX.fullmatch(value) and len(value) in {32, 40, 64, 96, 128}
    ):
        return False
    return _looks_random(value)


def _is_chosen(found: re.Match[str]) -> bool:
    return _looks_chosen(found["value"])


def _looks_chosen(value: str) -> bool:
    """Whether a word is none of a language: digits or signs stand among its letters."""
    return any(map(str.isalpha, value)) and (
        any(map(str.isdigit, value)) or any(c in "!#$%&*+?@^~" for c in value[:-1])
    )


def _looks_random(value: str) -> bool:
    kinds = (str.isupper, str.islower, str.isdigit)
    return all(any(map(kind, value)) for kind in kinds)


def _is_account(found: re.Match[str]) -> bool:
    """Whether what stands before and after the colon are a name and a password, not numbers of accounts."""
    return _is_value(found) and not (found["user"].isdigit() and found["value"].isdigit())


def _is_parameter(found: re.Match[str]) -> bool:
    """Whether a short name of a request, which means many things, has what looks like a secret."""
    is_vague = found["name"].lower() in {"key", "code", "auth", "session"}
    return _is_value(found) and (not is_vague or (len(found["value"]) > 11 and _looks_random(found["value"])))  # noqa: PLR2004


class _Rule(NamedTuple):
    kind: str
    pattern: re.Pattern[str]  # with a group "value"
    check: Callable[[re.Match[str]], bool]


def _rules(
    kind: str, check: Callable[[re.Match[str]], bool], *patterns: str, flags: int = re.IGNORECASE
) -> list[_Rule]:
    return [_Rule(kind, re.compile(pattern, flags), check) for pattern in patterns]


# All that may repeat is bounded, so that no text, however made, takes longer than its length.
_GAP = r"\s{1,8}"
_LINE = r"[^\n|;]{0,300}?"  # of one command
_RULES = (
    # By its own shape.
    *_rules("private key", _always, r"(?P<value>AGE-SECRET-KEY-1\w{20,})", flags=0),
    *_rules(
        "token",
        _always,
        r"(?<![\w-])(?P<value>gh[opsur]_\w{20,}|github_pat_\w{20,}|glpat-[\w-]{16,}|xox[abeoprs]-[\w-]{10,})",
        r"(?<![\w-])(?P<value>(?:AKIA|ASIA)[A-Z0-9]{16}|AIza[\w-]{30,}|ya29\.[\w-]{16,}|[rsp]k_(?:live|test)_\w{10,})",
        r"(?<![\w-])(?P<value>npm_\w{30,}|pypi-[\w-]{30,}|hvs\.[\w-]{16,}|dop_v1_\w{40,}|SG\.[\w-]{16,}\.[\w-]{16,})",
        r"(?<![\w-])(?P<value>eyJ[\w-]{8,}\.eyJ[\w-]{4,}\.[\w-]*|\d{8,10}:AA[\w-]{30,})",
        flags=0,
    ),
    *_rules("hash of a password", _always, r"(?<=:)(?P<value>\$(?:[1567y]|2[abxy]?|apr1|argon2\w*|gy)\$[^\s:]{10,})"),
    # In a place for one.
    *_rules(
        "password in an address",
        _is_value,
        r"://[^\s/:@\"']{0,200}:(?P<value>[^\s/\"'<>]{1,200})(?=@)",
        r"jdbc:oracle:thin:\w{1,100}/(?P<value>[^\s@]{1,200})(?=@)",
    ),
    *_rules("token in an address", _is_chosen, r"://(?P<value>[^\s/:@\"']{16,200})(?=@)"),
    *_rules("part of a request", _is_parameter, rf"[?&#;](?P<name>{_PARAMETERS})=(?P<value>[^\s&\"'#;<>]+)"),
    *_rules(
        "header",
        _is_value,
        rf"(?:proxy-)?authorization[\"']?\s{{0,4}}[:=]\s{{0,4}}[\"']?(?:{_SCHEMES}\s{{0,4}})?(?P<value>[\w+/=.~-]{{6,}})",
        r"(?<![\w-])(?:set-)?cookie\s{0,4}:\s{0,4}(?P<value>[^\n\"'=]{1,100}=[^\n\"']+)",
        r"(?<![\w-])(?:x-|ocp-)[\w-]{0,80}(?:token|key)\s{0,4}:\s{0,4}(?P<value>[\w.+/=-]+)",
        r"\b(?:bearer|basic)\s{1,8}(?P<value>[A-Za-z0-9+/=_.-]{16,})",
    ),
    # Behind a name that tells of one.
    *_rules(
        "element",
        _is_value,
        rf"<(?:\w{{1,40}}:)?[\w.-]{{0,80}}{_NAME}[\w.-]{{0,80}}(?:\s[^<>]{{0,300}})?>(?P<value>[^<\n]+)(?=</)",
        rf"<[^<>]{{0,300}}{_NAME}[^<>]{{0,300}}\svalue\s{{0,4}}=\s{{0,4}}[\"'](?P<value>[^\"'\n]+)",
    ),
    *_rules(
        "setting",
        _is_setting,
        rf"(?P<name>{_TELLING})\\?[\"']?\s{{0,4}}(?P<sign>=>|->|:=|=|:)\s{{0,4}}{_VALUE}",
    ),
    *_rules("setting", _is_value, r"password for [^\s:]{1,100}:\s{1,8}(?P<value>\S+)"),
    *_rules(
        "option",
        _is_value,
        rf"(?<!\S)--?(?:[\w-]{{0,30}}-)?(?:{_NAME}|auth-token)[ =]\s{{0,8}}(?!-)(?<!=){_VALUE}",
        rf"(?<!\S)-pass(?:in|out)?{_GAP}pass:{_VALUE}",
        rf"/(?:pass(?:word)?:|rp\s){_VALUE}",
        rf"convertto-securestring{_GAP}(?:-string{_GAP})?{_VALUE}",
        rf"\bnet\d? user \S{{1,100}} {_VALUE}(?= /|\s*$)",
        rf"\bnet\d? use \S{{1,100}}(?: \\\\\S{{1,200}})? {_VALUE}(?= /user)",
        rf"\b(?:mysql\w*|mariadb[\w-]*|7z\w?)\b{_LINE}\s(?-i:-p){_VALUE}",
        rf"\b(?:sshpass|psexec\w*|mongo\w*|docker login|podman login)\b{_LINE}\s(?-i:-p)\s+{_VALUE}",
        rf"\bldap\w+\b{_LINE}\s(?-i:-w)\s+{_VALUE}",
        rf"\bredis-cli\b{_LINE}\s(?-i:-a)\s+{_VALUE}",
        rf"\b(?:unzip|zip)\b{_LINE}\s(?-i:-P)\s+{_VALUE}",
    ),
    *_rules(
        "option",
        _is_account,
        rf"\b(?:curl|wget|http|smbclient|rpcclient|net)\b{_LINE}\s(?:-u|-U|--user|--proxy-user)[ =][\"']?"
        r"(?P<user>[^\s:%\"']{1,100})[:%](?P<value>[^\s\"']+)",
        flags=0,
    ),
    *_rules(
        "line of a password file",
        _is_value,
        r"\b(?:machine|login)\s{1,8}\S{1,200}\s[^\n]{0,200}?\bpassword\s{1,8}(?P<value>\S+)",
        r"^[\w.*-]{1,200}:(?:\d{2,5}|\*):[\w.*-]{1,100}:[\w.*-]{1,100}:(?P<value>[^\s:]+)$",
    ),
    *_rules(
        "password in a sentence",
        _is_said,
        rf"\b(?:{_FOR_LOGIN}|{_FOR_ACCESS})(?:{_GAP}\w{{1,40}}){{0,3}}?{_GAP}"
        rf"(?:is|was|lautet|ist|war|est|es|era)\s{{0,4}}:?{_GAP}{_VALUE}",
    ),
    # Drawn at random, beside a telling word.
    *_rules(
        "what looks drawn at random",
        _is_random,
        r"\b(?:key|secret|token|session|nonce|credential|auth\w*|schlüssel|clé)\b[^\n]{0,20}?"
        r"(?<![\w/.+:-])(?P<value>[A-Za-z0-9+/_=-]{20,})(?![\w/.+-])",
    ),
)
_PRIVATE_KEY = re.compile(r"-----BEGIN [A-Z ]*PRIVATE KEY(?: BLOCK)?-----(.*?)(?:(?=-----END)|\Z)", re.DOTALL)
# One of these stands in every line with a secret, in small letters: most lines need no closer look.
# fmt: off
_TRIGGERS = (
    "pass", "pwd", "psk", "pin", "kennw", "schl", "contra", "secret", "token", "jeton", "key", "clé", "credential",
    "auth", "cookie", "session", "nonce", "bearer", "basic", "://", "thin:", "sig", "code=", "ghp_", "gho_", "ghu_",
    "ghs_", "ghr_", "github_", "glpat-", "xox", "akia", "asia", "aiza", "ya29", "_live_", "_test_", "npm_", "pypi-",
    "hvs.", "dop_v1", "sg.", "eyj", ":aa", ":$", "curl", "wget", "http", "smbclient", "rpcclient", "net", "mysql",
    "mariadb", "7z", "psexec", "mongo", "docker", "podman", "ldap", "redis", "zip", "/rp", "login", "machine",
    "securestring",
)
# fmt: on
_BLOTTED = BLOT.split(maxsplit=1)[0]
_FIELDS = 4  # colons in a line of a password file


def find_secrets(text: str) -> list[Secret]:
    """Where secrets stand in a text, in their order; no two touch each other."""
    apart: list[Secret] = []
    for secret in sorted(_all_secrets(text)):
        if apart and secret.begin < apart[-1].end:
            apart[-1] = apart[-1]._replace(end=max(apart[-1].end, secret.end))
        else:
            apart.append(secret)
    return apart


def without_secrets(text: str) -> str:
    """A text in which what looks like a password, a token or a key is blotted out."""
    parts, end = [], 0
    for secret in find_secrets(text):
        parts += [text[end : secret.begin], BLOT]
        end = secret.end
    return "".join([*parts, text[end:]])


def _all_secrets(text: str) -> Iterator[Secret]:
    yield from (Secret(*found.span(1), "private key") for found in _PRIVATE_KEY.finditer(text) if found[1])
    begin = 0
    for line in text.split("\n"):
        lowered = line.lower()
        if any(word in lowered for word in _TRIGGERS) or line.count(":") == _FIELDS:
            yield from (Secret(s.begin + begin, s.end + begin, s.kind) for s in _of_line(line))
        begin += len(line) + 1


def _of_line(line: str) -> Iterator[Secret]:
    for kind, pattern, check in _RULES:
        for found in pattern.finditer(line):
            begin, end = found.span("value")
            if _BLOTTED in found["value"]:  # the value ends where something is blotted out already
                end = line.index(_BLOTTED, begin)
            if line.startswith(_BLOTTED, end) and line[begin:end].endswith(("=", ":")):
                continue
            if begin < end and check(found):
                yield _inside(line, begin, end, kind)


def _inside(text: str, begin: int, end: int, kind: str) -> Secret:
    """The secret without the quotes around it."""
    value = text[begin:end]
    for quote in ('\\"', "\\'", '"', "'"):
        if value.startswith(quote) and value.endswith(quote) and len(value) > len(quote):
            return Secret(begin + len(quote), end - len(quote), kind)
    return Secret(begin, end, kind)
