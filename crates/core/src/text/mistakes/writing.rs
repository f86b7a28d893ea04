//! Mistakes that can be seen in the text alone.

super::mistakes! {
    UNKNOWN_KEYWORD "unknown-keyword":
    "A line at the left edge begins with a word that no line there begins with. A variable is set with `let`, a file is described with `target`.";
    "Write the keyword that is meant; indent the line if it belongs to the `target` or `task` above it."

    UNKNOWN_CLAUSE "unknown-clause":
    "An indented line begins with no clause, or with one that a target has and a task has not, or the other way round.";
    "Write the clause that is meant. Files stand behind `needs`, commands behind `recipe:`."

    REPEATED_CLAUSE "repeated-clause":
    "A clause that counts once stands in the same target or task twice, and one of them would be without effect.";
    "Put both together, or leave one out."

    MISPLACED_WORD "misplaced-word":
    "A word has a meaning in another place and none here, so that it would be taken for a file's name.";
    "Write it as the clause that the message shows; a file that is called so goes in quotes."

    MISSING_COLON "missing-colon":
    "What takes a text of its own, such as `recipe` and `about`, has a colon behind it, which says where that text begins.";
    "Write the colon behind the keyword."

    SURPLUS_COLON "surplus-colon":
    "The name of a target stands alone on its line; a colon behind it would become a part of the file's name.";
    "Leave the colon out, and write what the target needs below it, behind `needs`."

    SURPLUS_SIGN "surplus-sign":
    "A sign stands behind the colon of a script where its first line would stand, and would be run as a command.";
    "Leave it out: the indented lines below belong to the script as they are."

    SURPLUS_WORDS "surplus-words":
    "More words stand behind a keyword than it takes, so that it is not clear what they are to do.";
    "Leave them out. One word that has spaces in it goes in quotes."

    MISSING_SCRIPT "missing-script":
    "A colon promises a script, and neither the rest of the line nor an indented line below it has one.";
    "Write the command behind the colon, or below it, indented."

    INCOMPLETE_CLAUSE "incomplete-clause":
    "A clause does not have all the words that it takes, or not in their places.";
    "Write it as the message shows."

    INCOMPLETE_LET "incomplete-let":
    "A `let` does not have the words that it takes: a name, one of `=`, `+=` and `one of`, and what it is set to.";
    "Write it as the message shows."

    INCOMPLETE_LINE "incomplete-line":
    "A line at the left edge does not have all the words that its keyword takes.";
    "Write it as the message shows."

    NAMELESS_TARGET "nameless-target":
    "A target has no file: none is written, or its words come to nothing because a variable in them is empty.";
    "Write the file that the recipe makes behind `target`, or look at the variables that it is put together from."

    NAMELESS_TASK "nameless-task":
    "A task has no name, and could not be asked for.";
    "Write a name behind `task`."

    UNREADABLE_AMOUNT "unreadable-amount":
    "How much a step takes, or how much there is, is a whole number from 1; of memory with `K`, `M` or `G` behind it.";
    "Write a number, such as `takes cores=2 memory=4G`."

    UNREADABLE_CONDITION "unreadable-condition":
    "The words behind `when` or `where` are no condition: a value is missing, no comparison stands between two values, or there are too many parts.";
    "Write for example `when @{os} is linux`, with `and`, `or` and `not` between such comparisons."

    DOLLAR_NAME "dollar-name":
    "A `$` with a name stands in a word of the description. That is a shell's way to write a variable, and here nothing would put its value in.";
    "Write `@{name}` for a variable of the description, `env NAME` in a `let` for one of the environment; a real `$` goes in '…'."

    EMPTY_LABEL "empty-label":
    "A label has no words, so that the variable which is named by it would always be empty.";
    "Write the words behind the label, or leave it out."

    REPEATED_LABEL "repeated-label":
    "Two groups of words have the same label, and a label names one group.";
    "Give one of them another name, or put their words together."

    UNREADABLE_EXCEPT "unreadable-except":
    "`except` takes something out of the words in front of it, and either those or the patterns behind it are missing, or it stands there twice.";
    "Write for example `needs src/*.c except src/old-*.c`; a file called `except` goes in quotes."

    RESERVED_NAME "reserved-name":
    "A name that the language gives itself, such as `needs` or `target`, can't be given once more: a recipe could not tell the two apart.";
    "Choose another name."

    INVALID_NAME "invalid-name":
    "A name has letters, digits, `_` and `-`, and begins with a letter or `_`, so that it can be told from what stands around it.";
    "Choose a name of that form."

    LET_WITHOUT_SPACES "let-without-spaces":
    "The `=` or `+=` of a `let` stands between spaces, since a word such as `a=b` is a value in its own right.";
    "Write `let name = value`."

    REPEATED_PARAMETER "repeated-parameter":
    "Two parameters of a task have the same name, so that one of them could never be read.";
    "Give one of them another name."

    PARAMETER_ORDER "parameter-order":
    "Values are given to the parameters of a task in their order, so one that must be given can't stand behind one that need not, and nothing behind one that takes all the rest.";
    "Put those that must be given first, and the one that takes the rest last."

    UNREADABLE_CHOICES "unreadable-choices":
    "The choices of a parameter are missing or stand in a form that is none.";
    "Write for example `task flash board one of uno mega`; the first is taken when none is given."

    STRAY_INDENTATION "stray-indentation":
    "An indented line belongs to the line above it that stands further left, and there is none that it could belong to.";
    "Move it to the left edge, or write the `target` or `task` that it belongs to above it."

    MIXED_INDENTATION "mixed-indentation":
    "One of two lines is indented with tabs and the other with spaces, so that neither is further left than the other: how wide a tab is, is not in the text.";
    "Indent both with the same characters; `handloom tidy` does so once it can read the rest."

    NAMES_WITHOUT_TABLE "names-without-table":
    "Several names behind `each` take the columns of a table, row by row, and words have no columns.";
    "Write `each A B in table FILE`, or one `each` for each name: every combination is a step then."

    INVISIBLE_CHARACTER "invisible-character":
    "A word holds a character that can't be seen, such as a no-break space from a web page. A file of that name would not be the file that is read there.";
    "Write the word anew. If it is meant, it goes in quotes."

    UNKNOWN_ESCAPE "unknown-escape":
    "Between \"…\" a backslash begins one of \\\" \\\\ \\n \\t and \\@, and what follows is none of them.";
    "Write `\\\\` for a backslash, or use '…', which has no escapes."

    OPEN_QUOTE "open-quote":
    "A quote begins in this line and does not end in it, so that the rest of the line would be one word.";
    "Write the closing quote where the word ends. A longer text is put together from several words."

    UNREADABLE_REFERENCE "unreadable-reference":
    "What follows `@{` is not a variable's name with its parts and a `}`.";
    "Write `@{name}` or `@{name.part}`; a real `@{` is written `@@{`."

    UNKNOWN_PART "unknown-part":
    "What stands behind the dot is no part of a value. There are .dir .name .stem .ext .first .rest .count .joined(\",\") and the words .1, .2, …";
    "Write one of these parts."
}
