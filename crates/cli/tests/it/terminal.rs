//! The program on a terminal: what the screen shows while it runs, and what keys do.

use std::time::Duration;

use rustix::process::Pid;
use rustix::process::Signal;

use crate::bed::Bed;
use crate::screen::Terminal;
use crate::screen::state_of;
use crate::screen::wait_for;

/// A step that waits for a file named after it.
const GATED: &str = "
target out/<name>
  needs each in/<name>
  recipe:
    echo $$ > @{name}.pid
    while [ ! -e open-@{name} ]; do sleep 0.02; done
    cp @{needs} @{target}
";

fn gated(names: &[&str]) -> Bed {
    let bed = Bed::new(GATED);
    for name in names {
        bed.write(&format!("in/{name}"), "x");
    }
    bed
}

#[test]
fn the_block_shows_what_runs_and_is_gone_at_the_end() {
    let bed = gated(&["a", "b", "c"]);
    let mut terminal = Terminal::start(&bed, &["-j2"]);
    terminal.shows("›  out/b");
    terminal.shows("0 of 3");
    assert!(!terminal.contents().contains("out/c"), "only two may run");
    bed.write("open-a", "");
    terminal.shows("made  out/a");
    terminal.shows("1 of 3");
    terminal.shows("›  out/c");
    bed.write("open-b", "");
    bed.write("open-c", "");
    let (status, screen) = terminal.end();
    assert_eq!(status, Some(0), "{screen}");
    assert!(!screen.contains('›') && !screen.contains('▚'), "{screen}");
    let lines: Vec<&str> = screen.lines().collect();
    assert_eq!(lines.len(), 4, "{screen}");
    assert!(lines[3].starts_with("3 made in "), "{screen}");
}

#[test]
fn the_block_fits_a_window_that_shrinks() {
    let bed = gated(&["a", "b", "c", "d", "e", "f"]);
    let mut terminal = Terminal::start(&bed, &["-j6"]);
    terminal.shows("›  out/f");
    let size = rustix::termios::Winsize {
        ws_row: 9,
        ws_col: 36,
        ws_xpixel: 0,
        ws_ypixel: 0,
    };
    rustix::termios::tcsetwinsize(&terminal.keyboard, size).unwrap();
    terminal.screen.screen_mut().set_size(9, 36);
    // A third of nine rows: one job, how many more, the bar.
    terminal.shows("and 5 more");
    terminal.until("three rows", |screen| {
        screen.lines().filter(|line| !line.is_empty()).count() == 3
    });
    for name in ["a", "b", "c", "d", "e", "f"] {
        bed.write(&format!("open-{name}"), "");
    }
    let (status, screen) = terminal.end();
    assert_eq!(status, Some(0), "{screen}");
    assert!(screen.contains("6 made in"), "{screen}");
    assert!(!screen.contains('›') && !screen.contains('╎'), "{screen}");
}

#[test]
fn the_block_tells_how_long_a_job_usually_takes() {
    let bed = gated(&["a"]);
    bed.write("open-a", "");
    let _ = bed.run(&[]).status(0);
    bed.remove("open-a");
    bed.write("in/a", "y");
    let mut terminal = Terminal::start(&bed, &[]);
    terminal.shows(", usually ");
    bed.write("open-a", "");
    assert_eq!(terminal.end().0, Some(0));
}

#[test]
fn control_c_asks_the_jobs_to_end_and_tells_of_it() {
    let bed = gated(&["a", "b"]);
    let mut terminal = Terminal::start(&bed, &["-j2"]);
    terminal.shows("›  out/b");
    wait_for("both jobs run", || {
        bed.exists("a.pid") && bed.exists("b.pid")
    });
    terminal.press(b"\x03");
    let (status, screen) = terminal.end();
    assert_eq!(status, Some(130), "{screen}");
    assert!(screen.contains("stopped  out/a"), "{screen}");
    assert!(screen.contains("2 stopped in"), "{screen}");
    assert!(!screen.contains('›'), "{screen}");
    for name in ["a", "b"] {
        assert_eq!(state_of(&bed.read(&format!("{name}.pid"))), None);
    }
}

#[test]
fn control_z_stops_the_jobs_too_and_they_go_on_together() {
    let bed = gated(&["a"]);
    bed.write(
        "hand.loom",
        &GATED.replace("  recipe:", "  limit 8s\n  recipe:"),
    );
    let mut terminal = Terminal::start(&bed, &[]);
    terminal.shows("›  out/a");
    wait_for("the job runs", || {
        bed.exists("a.pid") && !bed.read("a.pid").is_empty()
    });
    let job = bed.read("a.pid");
    let program = terminal.child.id().to_string();
    terminal.press(b"\x1a");
    wait_for("the job is stopped", || state_of(&job) == Some('T'));
    wait_for("the program is stopped", || state_of(&program) == Some('T'));
    // The block is taken away, so that the shell's prompt is not written over.
    terminal.until("no block", |screen| !screen.contains('›'));
    // Longer than the limit: the pause does not count.
    std::thread::sleep(Duration::from_millis(8100));
    let pid = Pid::from_raw(program.parse().unwrap()).unwrap();
    rustix::process::kill_process(pid, Signal::CONT).unwrap();
    terminal.shows("›  out/a");
    bed.write("open-a", "");
    let (status, screen) = terminal.end();
    assert_eq!(status, Some(0), "{screen}");
    assert!(screen.contains("1 made in"), "{screen}");
}

const TALK: &str = "
task talk
  terminal
  recipe:
    test -t 0 && test -t 1 && echo on a terminal
    printf 'name: '
    read name
    echo hello $name
  finally: echo tidied > finally.txt
task serve
  terminal
  recipe:
    echo serving
    exec sleep 60
  finally: echo tidied > finally.txt
";

#[test]
fn a_terminal_task_has_the_keyboard() {
    let bed = Bed::new(TALK);
    let mut terminal = Terminal::start(&bed, &["run", "talk"]);
    terminal.shows("name:");
    terminal.press(b"keeper\n");
    let (status, screen) = terminal.end();
    assert_eq!(status, Some(0), "{screen}");
    assert!(screen.contains("on a terminal"), "{screen}");
    assert!(screen.contains("hello keeper"), "{screen}");
    assert_eq!(bed.read("finally.txt"), "tidied\n");
}

#[test]
fn control_c_ends_a_server_and_what_tidies_up_runs() {
    let bed = Bed::new(TALK);
    let mut terminal = Terminal::start(&bed, &["run", "serve"]);
    terminal.shows("serving");
    terminal.press(b"\x03");
    let (status, screen) = terminal.end();
    assert_eq!(status, Some(130), "{screen}");
    assert!(screen.contains("stopped  serve"), "{screen}");
    assert_eq!(bed.read("finally.txt"), "tidied\n");
}

#[test]
fn names_and_output_cannot_move_the_cursor() {
    let bed = Bed::new("task loud\n  recipe: printf 'one\\033[2Jtwo\\033]0;title\\007\\n'\n");
    let terminal = Terminal::start(&bed, &["loud"]);
    let (_, screen) = terminal.end();
    assert!(screen.contains("onetwo"), "{screen}");
    assert!(screen.starts_with("   done  loud"), "{screen}");
}

#[test]
fn very_many_steps_without_a_word_are_counted_in_the_end() {
    let bed = Bed::in_memory(
        "target out/<n>\n  each n in @{all}\n  recipe: if [ @{n} = 99 ]; then echo spoken; fi; touch @{target}\n\
         target last\n  needs out/*\n  recipe: touch @{target}\n",
    );
    let numbers: Vec<String> = (1..=260).map(|number| number.to_string()).collect();
    let text = format!("let all = {}\n{}", numbers.join(" "), bed.read("hand.loom"));
    bed.write("hand.loom", &text);
    let (status, screen) = Terminal::start(&bed, &["-j1"]).end();
    assert_eq!(status, Some(0), "{screen}");
    // What said something has its line, wherever it stands.
    assert!(
        screen.contains("made  out/99") && screen.contains("spoken"),
        "{screen}"
    );
    assert!(
        screen.contains("   made  out/<n>  and 59 more, "),
        "{screen}"
    );
    assert!(!screen.contains("out/98"), "{screen}");
    assert!(
        screen.contains("made  last") && screen.contains("261 made"),
        "{screen}"
    );
    // All of it where it is asked for, and where no terminal is.
    bed.run(&["clean"]).status(0);
    let (_, screen) = Terminal::start(&bed, &["-j1", "-v"]).end();
    assert!(
        screen.contains("made  out/98") && !screen.contains(" more, "),
        "{screen}"
    );
    bed.run(&["clean"]).status(0);
    let run = bed.run(&[]).status(0);
    assert_eq!(run.out.matches("   made  out/").count(), 260);
}
