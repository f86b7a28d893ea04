//! Mistakes of settings and of what is asked for, and what a run has to tell.

super::mistakes! {
    UNKNOWN_SETTING "unknown-setting":
    "There is no setting of this name, or it is one that each user says for themselves.";
    "Write the name that is meant; `handloom settings` lists all of them."

    UNFIT_SETTING "unfit-setting":
    "A setting does not take this value. Settings have no variables in them, since they count before any variable does.";
    "Write one of the values that the message names."

    REPEATED_SETTING "repeated-setting":
    "A setting is set twice in the same description, and one of the lines would be without effect.";
    "Leave one of them out."

    SETTING_IN_PART "setting-in-part":
    "Settings count for a whole project, so those of a part are not read.";
    "Write them into the `hand.loom` at the root of the project."

    TARGET_IN_OWN_DESCRIPTION "target-in-own-description":
    "Your own description, which goes with you through all projects, holds tasks alone: files belong to a project.";
    "Describe the file in the `hand.loom` of its project."

    UNKNOWN_GOAL "unknown-goal":
    "What is asked for on the command line is no target and no task of this project.";
    "Write the name that is meant; `handloom list` shows what can be made and run."

    UNKNOWN_PLACE "unknown-place":
    "Work is to run at a place that the settings do not describe.";
    "Describe it in your settings (docs/cluster.md), or run it here: `--on here`."

    MISSING_SOURCE "missing-source":
    "A file is needed, but it is not there and no target makes it. Steps that do not need it are still made.";
    "Look at the name, which is seen from the folder of its description, or describe a target that makes it."

    UNDECLARED_NEED "undeclared-need":
    "A step reads a file that another step makes, and does not say so, so that it may run too early on another day.";
    "Write the file behind `needs`; `learn` finds such files by itself."

    MEMORY_EXCEEDED "memory-exceeded":
    "A job held more memory than its `takes` says, so that others beside it may have found too little left.";
    "Say as much as it needs: `takes memory=4G`."

    LEFT_RUNNING "left-running":
    "A recipe ended and left programs running in the background. They were ended, since what they write would come after the step is done.";
    "Wait for them in the recipe. What is to go on running is a task that `stays`."

    FAILED_FINALLY "failed-finally":
    "What is done whatever happened did itself fail. The result of the run stays what it was.";
    "Look at what it printed: `handloom log`."

    STORE_UNUSABLE "store-unusable":
    "The store of results, or the shared one, could not be used in this run. What was to be restored was made instead.";
    "The message says why; `handloom store` says where it is, and `handloom settings` who says so."

    PLACE_REMARK "place-remark":
    "A place where work runs had something to tell, such as that it does not answer or that a worker was lost.";
    "Mostly nothing is to be done: what was lost is done again. docs/cluster.md says what each means."

    EVENTS_LEFT_OUT "events-left-out":
    "What is told of a run was read more slowly than it came about, and some of it was left out here. The record of the run has all of it.";
    "Nothing, or read it with `handloom history --json` afterwards."
}
