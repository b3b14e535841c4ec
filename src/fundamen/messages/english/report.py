"""Next steps that pages name, by their codes."""

TEXTS = {
    "make-the-user": "Have the user {name} made, as the package or the vendor of the unit describes.",
    "make-the-folder": "Make the folder {name} for the user of the unit; then trace the unit again.",
    "put-the-file-of-variables": "Put the file {name} back; its package or vendor says what belongs in it.",
    "on-that-machine": "On that machine: {line}",
    "get-the-build-for-this-machine": (
        "Get the publisher's build of it for what this machine runs; nothing on the machine needs mending."
    ),
    "trace-the-program-that-uses-it": "Trace the program that uses this library, or run it.",
    "nothing-it-ended-well": "Nothing: it ran, and ended well.",
    "look-at-what-the-program-says": (
        "The run has shown nothing at fault below it; look at what the program itself says."
    ),
    "run-it-on-its-own-machine": "Run it on its own machine.",
    "run-the-build-again": "Run the build again.",
    "then-run-the-build-again": "Then run the build again: what else is missing may have come with that.",
    "ask-the-author-of-the-build": "Ask the author of the build which package has {names}.",
    "a-program-that-ends-without-a-word": (
        "A program that ends without a word: fundamen trace PROGRAM, or fundamen trace --observe PROGRAM."
    ),
    "give-the-log-of-the-part-that-fails": (
        "Give the log of the part that fails, or the message itself: fundamen clues --text '...'"
    ),
    "and-the-archive-has-the-package": "{means} The archive has the package {package}.",
}
