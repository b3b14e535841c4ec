"""Sentences and clauses of ``building``, by their codes."""

TEXTS = {
    "does-not-say-how-it-links": "{tool} does not say how it links",
    "it-shows-no-linker-command-for": "it shows no linker's command for -###",
    "name-a-compiler-that-follows-gcc": "Name a compiler that follows GCC's command line.",
    "cannot-be-asked": "{words} cannot be asked",
    "the-folder-is-not-there": "the folder {folder} is not there",
    "no-such-compiler-is-on-path": "no such compiler is on PATH",
    "name-the-folder-of-the-build": "Name the folder of the build with --directory.",
    "install-it-or-name-another-one": "Install it, or name another one.",
    "it-did-not-answer-in-s": "it did not answer in {seconds:.0f} s",
    "try-it-by-hand-add-to": "Try it by hand: add -### to the command.",
    "the-log-names-nothing-that-is": "The log names nothing that is lacking",
    "no-message-in-its-lines-is": (
        "no message in its {count} lines is one of a compiler, a linker or make that is known"
    ),
    "give-the-part-of-the-log": (
        "Give the part of the log with the error, with LC_ALL=C set for the build; or use --command."
    ),
    "no-compiler-or-linker-is-called": "No compiler or linker is called there",
    "has-no-word-such-as-cc": "{line!r} has no word such as cc, gcc, clang, g++ or ld as its command",
    "write-it-as-the-build-does": "Write it as the build does: --command 'cc -o tidebook main.o -ltide'.",
    "its-first-target": "its first target",
    "make-would-compile-and-link-nothing": "make would compile and link nothing for {target}",
    "it-shows-no-compiler-command-the": (
        "it shows no compiler's command; the target may be up to date, or be no target of this makefile"
    ),
    "touch-a-source-first-or-name": "Touch a source first, or name the failing target.",
    "a-build-on-cannot-be-examined": "A build on {title} cannot be examined from here",
    "its-own-compiler-has-to-be": "its own compiler has to be asked where it looks, and that runs only there",
    "run-fundamen-on-that-machine-or": (
        "Run Fundamen on that machine, or examine the log on one with the same compiler, without --machine."
    ),
    "is-searched": "{folder} is searched",
    "is-for": "is for {architecture}",
    "its-symbol-index-is-missing-ranlib": "its symbol index is missing; ranlib makes it",
    "the-shell-does-not-find-it": "the shell does not find it on PATH",
    "it-is-there-now-at": "it is there now, at {path}",
    "not-found-in-the-folders-of": "not found in the {count} folders of headers",
    "it-is-for": "it is for {architecture}",
    "and-the-step-links-for": "{path} {detail}, and the step links for {architecture}",
    "the-compiler-knows-no-place-that": "the compiler knows no place that has it for {architecture}",
    "only-is-there-for-running-programs": "only {there} is there, for running programs; a linker looks for {names}",
    "was-not-found-in-the-folders": "{names} was not found in the {count} folders that the linker searches",
    "defines-it-but-comes-before-the": (
        "{on_line} defines it, but comes before the file that uses it; it is read only once"
    ),
    "move-to-the-end-of-the": "move {on_line} to the end of the line",
    "defines-it-and-is-not-on": "{names} defines it ({defining}), and is not on the line",
    "add-at-the-end-of-the": "add {names} at the end of the line",
    "no-library-in-the-folders-that": (
        "no library in the folders that are searched defines it; {lacking}, which is not found, may"
    ),
    "no-library-in-the-folders-that-are": "no library in the folders that are searched defines it",
    "in": " in {spelled_at}",
    "write-in-place-of": "write {near} in place of {name}{where}",
    "apt-install": "apt install {brought_by}",
    "add-l": "add -L{folder}",
    "add-i": "add -I{folder}",
    "name": "name {elsewhere}",
    "the-file-does-not-exist-and": "the file does not exist, and no rule has made it",
}
