//! Mistakes that show when a description is worked out.

super::mistakes! {
    UNREADABLE_DESCRIPTION "unreadable-description":
    "A description can't be read: it is not there, not allowed to be read, not UTF-8, or far too large for one.";
    "Name a `.loom` file or a folder that holds a `hand.loom`, and save it as UTF-8."

    UNKNOWN_LANGUAGE "unknown-language":
    "The description says that it is written in a version of the language that this program does not know.";
    "Install a newer Hand Loom, or write the version that it knows."

    UNFIT_INCLUDE "unfit-include":
    "`include` takes a plain path inside the project, without variables, and not more than a few deep.";
    "Name a file or folder of the project. What lies elsewhere is copied or linked by a step, not included."

    REPEATED_INCLUDE "repeated-include":
    "The same description is included twice, and each of its targets would be there twice.";
    "Leave one of the two lines out."

    REPEATED_VARIABLE "repeated-variable":
    "A variable is set twice without a `when` that tells which is to count, so one of the lines would be without effect.";
    "Leave one out, write `+=` to add to the other, or say `when` each counts."

    UNKNOWN_VARIABLE "unknown-variable":
    "No variable of this name can be seen from here: none is set in this description or one around it, and it is no hole, label or parameter of this target or task.";
    "Write the name that is meant, or set it with `let`. Variables of a part are named with its folder in front."

    VALUE_IN_A_CIRCLE "value-in-a-circle":
    "The value of a variable is made from itself, perhaps by way of others, so that it can never be known.";
    "Take the circle out of the `let`s that it is made from."

    DEEP_VALUES "deep-values":
    "So many variables are made from each other in a row that they are not followed any further.";
    "Put some of them together."

    NO_VALUE_HOLDS "no-value-holds":
    "Every line that sets this variable has a `when`, and none of these conditions holds now.";
    "Add a line without a `when` in front of the others, for all other cases."

    UNBOUND_VALUE "unbound-value":
    "A variable is made from a hole or parameter and used where nothing gives that one a value.";
    "Use it in a target that has such a hole or in a task that has such a parameter, or set what it depends on with `let`."

    NOT_A_CHOICE "not-a-choice":
    "A variable or parameter takes one of a few values, and this is none of them.";
    "Write one of the values that the message lists."

    NOTHING_TO_ADD_TO "nothing-to-add-to":
    "`+=` adds words to a variable that is set already, and this one is not, or takes one of a few values.";
    "Set it first with `let name = …`, or choose one of its values."

    UNSET_ENVIRONMENT "unset-environment":
    "A value comes from a variable of the environment that is not set where Hand Loom runs.";
    "Set it there, or write `env NAME or VALUE` for what counts when it is not."

    INVALID_ENVIRONMENT_NAME "invalid-environment-name":
    "No program could be given a variable of the environment that has this name.";
    "Write a name without `=` and without an empty or invisible character."

    FAILED_COMMAND_VALUE "failed-command-value":
    "A value is what a command prints, and the command failed, could not be started, or took too long.";
    "Run it by hand where the description stands. The message shows the end of what it printed."

    UNREADABLE_VALUE "unreadable-value":
    "A value comes from a data file, and the file, the key or the column is not there, or the file is not in the form that its name says.";
    "Look at the file and at the name that is asked for; the message shows the names that it has."

    COMPARISON_THE_WRONG_WAY "comparison-the-wrong-way":
    "In the `where` of a table the column stands in front of the comparison and what it is compared with behind it.";
    "Write for example `where group is control`; a column with spaces in its name goes in quotes."

    VALUE_FROM_OUTPUT "value-from-output":
    "A value is taken from a file that a target makes. Values are known before anything runs, so it would be that of the run before.";
    "Let a recipe read the file, or keep what is to be a value in a file of your own."

    NOT_A_NUMBER "not-a-number":
    "`above` and `below` compare numbers, and one of the two sides is none.";
    "Compare a number, or use `is`."

    NOT_ONE_WORD "not-one-word":
    "One word is needed in this place, and what stands there comes to none or to several.";
    "Choose one of them with `.first` or `.1`, or put them together with `.joined(\",\")`."

    MISSING_WORD "missing-word":
    "A part such as `.2` asks for a word that the value does not have.";
    "Ask for one that it has, or look at how the value comes about."

    TWO_LISTS "two-lists":
    "Two variables with several words each stand in one word, and it is not said which of the one goes with which of the other.";
    "Put spaces between them, or take one word of one of them."

    TOO_MANY_WORDS "too-many-words":
    "The words that come about here are more, or longer, than any system could hand to a program.";
    "Look for a list that is multiplied by another one, or that holds itself."

    UNFILLED_INTO "unfilled-into":
    "The pattern behind `into` has a hole or a wildcard that the first pattern does not fill, so it has no value.";
    "Use the holes of the first pattern."

    UNMATCHED_WORD "unmatched-word":
    "A word that `match` is to rewrite does not fit its pattern, and would be lost in silence.";
    "Change the pattern, or take with `only` the words that fit first."

    INVALID_PATH "invalid-path":
    "A path or pattern is none that can be used here: it leaves the project, names Hand Loom's own files or the description, or has a bracket or a hole that is not complete.";
    "Write a path inside the project. Characters that are meant as they stand go in quotes."

    UNREADABLE_FOLDER "unreadable-folder":
    "A pattern looks into a folder that can't be read, so what it matches is not known.";
    "Let the folder be read, or leave it out with `except`."

    PATTERN_MATCHES_NOTHING "pattern-matches-nothing":
    "A pattern matches no source and no target that is described now. That may be meant for a moment, and more often a name is wrong.";
    "Look at the folder's name and at the ending."

    NOT_A_HOLE "not-a-hole":
    "`<` begins a hole, a name between `<` and `>`, and this is none.";
    "Write `<name>`, or put the word in quotes if its characters are meant as they stand."

    UNFILLED_HOLE "unfilled-hole":
    "A hole stands in a path, and no `each` of the target gives it values.";
    "Write the hole that is meant, or name it where the files are matched, such as `needs each src/<name>.c`."

    EACH_WITHOUT_HOLE "each-without-hole":
    "An `each` makes a step for every value of its holes, and this one has no hole, perhaps because it stands in quotes.";
    "Write a hole where the names differ, such as `needs each src/<unit>.c`, or leave `each` out."

    EACH_MATCHES_OUTPUT "each-matches-output":
    "The pattern of an `each` matches a file that the same target makes, so that each run would bring about more steps.";
    "Let the target write into another folder, or with another ending."

    TOO_MANY_STEPS "too-many-steps":
    "The lists of a target multiply to more steps than any project can mean.";
    "Take the columns of one table instead of every combination, or leave one of the lists out."

    UNFIT_EXCEPT "unfit-except":
    "A folder is compared as one thing, so what is left out of it is the same for all that need it and for the target that makes it; out of a single file nothing can be left.";
    "Write `except` where the target names the folder, or in all places alike."

    MISSING_RECIPE "missing-recipe":
    "A target has no recipe, so nothing would make its files.";
    "Write one below it: `recipe: COMMAND`. Several files under one name are a `task` with `needs`."

    WILDCARD_OUTPUT "wildcard-output":
    "A target names the files that it makes, and this name has a wildcard in it, which only matches what is there.";
    "Name the files, let an `each` name them, or name the folder, with a slash at its end."

    OUTPUT_MADE_TWICE "output-made-twice":
    "Two steps make the same file, and which of them came last would be chance.";
    "Give one of them another name, or let all holes of the target stand in the names of its files."

    NESTED_OUTPUTS "nested-outputs":
    "A target makes a folder as a whole, and another one a file in it, which the first would take away.";
    "Let one of them write somewhere else."

    NEEDS_IN_A_CIRCLE "needs-in-a-circle":
    "Targets or tasks need each other in a circle, so none of them can be the first.";
    "Take one of these needs away, or split the target that is made too early."

    UNKNOWN_NEED "unknown-need":
    "A name is no target, no task and no file that is there, in a place that takes only such.";
    "Write the name that is meant; `handloom list` shows what can be made and run."

    NEEDED_TASK "needed-task":
    "A target can't need a task: a task makes no file, so there is nothing that could be newer or older.";
    "Let the target need a file. What only has to be done before goes behind `after`."

    ORPHANED_FILE "orphaned-file":
    "A file is needed that was once made by a target which is not described any more, so that nothing keeps it up to date.";
    "Describe a target that makes it, or remove it with `handloom clean --leftovers`. A source of your own takes another name."

    BEHIND_LINK "behind-link":
    "A file that a target makes is named elsewhere by a name that leads to it through a link, so nobody would wait for that target.";
    "Write one name for it everywhere, best that without the link."

    TASK_AND_TARGET "task-and-target":
    "A name is that of a task and of a file that a target makes, and a name stands for one thing.";
    "Rename one of them."

    REPEATED_TASK "repeated-task":
    "Two tasks have the same name, and only one of them could be asked for.";
    "Rename one of them."

    IDLE_TASK "idle-task":
    "A task has no recipe and names nothing that is to be done first, so it would do nothing.";
    "Give it a `recipe:`, `needs`, `after` or `steps`."

    UNFIT_STAYS "unfit-stays":
    "A task that `stays` goes on running while others use it; what belongs to a task that ends does not go with it.";
    "Write `stays` and a `recipe:`, and `ready:` with a script that succeeds when it can be used."

    STAYING_STEP "staying-step":
    "The steps of a task end one after the other, and a task that `stays` does not end.";
    "Name it behind `after` of the step that uses it."

    UNFIT_FINALLY "unfit-finally":
    "What is done whatever happened can't wait for anything else.";
    "Behind `finally` name tasks with a `recipe:` and without `after`, `steps` or `finally` of their own."

    STEPS_IN_A_CIRCLE "steps-in-a-circle":
    "The steps of a task lead back to the task itself.";
    "Take one of these steps away."

    UNFIT_CALL "unfit-call":
    "A task is called with values that it does not take, or without one that it must have.";
    "Call it as the message shows; `handloom list` shows the parameters of each task."

    UNDESCRIBED_CALL "undescribed-call":
    "A task has a `when` which does not hold for the values that it is called with.";
    "Call it with other values, or change the `when`."

    ENDLESS_CALLS "endless-calls":
    "Tasks call each other with ever new values, more often than any project can mean.";
    "Let the calls end: a task can't call itself with another value each time."

    UNREADABLE_TIME "unreadable-time":
    "A time is a number with `s`, `m` or `h` behind it.";
    "Write for example `limit 90s`."

    UNREADABLE_TRIES "unreadable-tries":
    "How often a recipe is tried again is a whole number.";
    "Write for example `retry 2`."

    UNKNOWN_SUPPLY "unknown-supply":
    "A step takes something that there is no supply of: beside `cores` and `memory` each is declared.";
    "Write `supply NAME = AMOUNT` at the left edge, or the name that is meant."

    SUPPLY_TOO_SMALL "supply-too-small":
    "A step takes more of a supply than there is, so that it could never begin.";
    "Let the step take less, or declare more."

    REFERENCE_IN_QUOTES "reference-in-quotes":
    "A variable is put in between quotes of a script in another language than the shell's. Its words are put in as they are there, with no care for what the quotes would need.";
    "Write it where its quoting is right for that language; `@{raw name}` says that it is meant."

    UNCLEAR_QUOTING "unclear-quoting":
    "A variable stands at a place of a shell script where it is not certain how the shell would read it, so that a blank or a quote in its value could become a command.";
    "Put it in a shell variable first, `name=@{name}`, and use `$name` there; `@{raw name}` puts it in as it is."

    SECRET_IN_SCRIPT "secret-in-script":
    "A script for another program than a shell is written into a file, and a secret must not be in one.";
    "Hand it over in the environment: `env NAME = @{name}`."

    SEALED_TERMINAL "sealed-terminal":
    "A task that has the terminal to itself can't be sealed: what is typed there comes from outside.";
    "Leave out `terminal`, or `sealed`."
}
