//! What is seen of jobs while they run on a terminal: colours, progress, wide texts, very many of them.

use std::fmt::Write;

use crate::bed::Bed;
use crate::screen::Terminal;

/// What a recipe knows of where it writes, and all kinds of control sequences.
const COLOURED: &str = r#"target out/seen
  recipe:
    if [ -t 1 ] && [ -t 2 ]; then echo "terminal of $(stty size <&2), pager $PAGER"; else echo pipe; fi
    printf '\033[31mred\033[0m \033]8;;file:///x\033\\link\033]8;;\007\033[3A plain\r\n'
    printf 'half\r\033[2Kwhole \033[1;32mgreen' >&2
    touch @{target}
"#;

fn colour_of(terminal: &Terminal, text: &str) -> vt100::Color {
    let screen = terminal.screen.screen();
    let (row, line) = screen
        .contents()
        .lines()
        .map(str::to_owned)
        .enumerate()
        .find(|(_, line)| line.contains(text))
        .unwrap_or_else(|| panic!("no `{text}` in\n{}", screen.contents()));
    let column = line.find(text).unwrap();
    screen
        .cell(u16::try_from(row).unwrap(), u16::try_from(column).unwrap())
        .unwrap()
        .fgcolor()
}

/// Waits for the end, and leaves the screen to be looked at.
fn ended(terminal: &mut Terminal) {
    terminal.until("the end", |screen| {
        screen.contains(" in ") && screen.contains("made")
    });
}

#[test]
fn recipes_have_colours_on_a_terminal_and_logs_have_none() {
    for manner in ["", "  learn watched\n", "  sealed\n"] {
        let loom = COLOURED.replacen("  recipe:", &format!("{manner}  recipe:"), 1);
        let bed = Bed::new(&loom).with_store();
        let mut terminal = Terminal::start_in(&bed, &[], 24, 100);
        ended(&mut terminal);
        let screen = terminal.contents();
        assert!(screen.contains("terminal of 24 88, pager cat"), "{screen}");
        assert!(screen.contains("red link plain\n"), "{screen}");
        assert!(
            screen.contains("whole green\n") && !screen.contains("half"),
            "{screen}"
        );
        assert_eq!(colour_of(&terminal, "red link"), vt100::Color::Idx(1));
        assert_eq!(colour_of(&terminal, "green"), vt100::Color::Idx(2));
        assert_eq!(
            colour_of(&terminal, " in 0"),
            colour_of(&terminal, "out/seen"),
            "colours end with the output"
        );
        assert_eq!(terminal.end().0, Some(0));
        // Line by line it is the same, without a line for the colour's end.
        bed.run(&["clean"]).status(0);
        let words = ["--output", "live", "--no-store"];
        let (_, screen) = Terminal::start_in(&bed, &words, 24, 100).end();
        assert!(
            screen.contains("out/seen │ red link plain\nout/seen │ whole green\n   made"),
            "{screen}"
        );
        // In the log is what it said, and nothing of how it looked.
        let log = "terminal of 24 88, pager cat\nred link plain\r\nhalf\rwhole green";
        assert_eq!(bed.read(".handloom/logs/1/1.log"), log);
        bed.run(&["log", "out/seen"])
            .status(0)
            .says(&["red link plain", "whole green"]);
        // So is what comes back from the store.
        bed.run(&["clean"]).status(0);
        let restored = bed.run(&["--color", "always"]).status(0);
        assert!(restored.out.contains("restored"), "{}", restored.shown());
        assert!(
            !restored.out.contains("\u{1b}[31mred"),
            "{}",
            restored.shown()
        );
    }
}

#[test]
fn recipes_write_to_a_pipe_where_no_colours_are_wanted() {
    let bed = Bed::new(COLOURED);
    bed.run(&[]).status(0).says(&["pipe\n"]);
    for words in [
        &["--again", "--color", "never"][..],
        &["--again", "--quiet", "--output", "grouped"],
    ] {
        let (_, screen) = Terminal::start(&bed, words).end();
        assert!(!screen.contains("terminal of"), "{screen}");
    }
    bed.write(
        "hand.loom",
        &format!("setting recipe-colors = never\n{COLOURED}"),
    );
    let (_, screen) = Terminal::start(&bed, &["--again"]).end();
    assert!(screen.contains("pipe\n"), "{screen}");
    bed.run(&["settings"])
        .status(0)
        .says(&["recipe-colors", "never", "hand.loom:1"]);
    bed.write("hand.loom", "setting recipe-colors = purple\n");
    bed.run(&["list"]).status(2).says(&[
        "`purple` is no value of the setting `recipe-colors`",
        "`auto` or `never`",
    ]);
}

/// What looks like a terminal is none to be read from: nobody types there.
#[test]
fn who_reads_from_what_it_writes_to_does_not_wait_for_ever() {
    let bed = Bed::new("task ask\n  recipe: printf 'name: '; read name <&2 || echo nobody\n");
    let mut terminal = Terminal::start(&bed, &["ask"]);
    terminal.shows("1 done in");
    let (status, screen) = terminal.end();
    assert_eq!(status, Some(0), "{screen}");
    assert!(screen.contains("nobody"), "{screen}");
}

/// The system hands on what is written to a terminal a little later; none of it may be lost at a job's end.
#[test]
fn nothing_that_is_written_to_the_terminal_is_lost() {
    let bed = Bed::in_memory(
        "target out/<n>\n  each n in @{all}\n  recipe: touch @{target}; printf 'said @{n}.'\n\
         target much\n  needs out/*\n  recipe: seq 1 150000; touch @{target}\n",
    );
    let numbers: Vec<String> = (1..=180).map(|number| number.to_string()).collect();
    let text = format!("let all = {}\n{}", numbers.join(" "), bed.read("hand.loom"));
    bed.write("hand.loom", &text);
    assert_eq!(Terminal::start(&bed, &["-j4"]).end().0, Some(0));
    let mut expected = String::new();
    for number in 1..=150_000 {
        let _ = writeln!(expected, "{number}");
    }
    for number in &numbers {
        let run = bed.run(&["log", &format!("out/{number}")]).status(0);
        assert!(
            run.out.contains(&format!("said {number}.")),
            "{}",
            run.shown()
        );
    }
    let logs = std::fs::read_dir(bed.path(".handloom/logs/1")).unwrap();
    let largest = logs
        .map(|log| log.unwrap().path())
        .max_by_key(|log| log.metadata().unwrap().len())
        .unwrap();
    assert!(
        std::fs::read_to_string(largest).unwrap() == expected,
        "the log is not what was printed"
    );
}

/// Progress that is drawn over itself, in colours and in wide characters, is one line of the block at any width.
#[test]
fn progress_is_one_line_of_the_block_at_any_width() {
    const WIDE: &str = "target out/灯台-の-記録\n  recipe:\n    n=0\n    while [ ! -e open ]; do\n      n=$((n + 1))\n      printf '\\r\\033[2K\\033[32m光度 %d of 9000 \\033[0m%s' $n 'and a long tail of words that no window of forty or eighty columns has room for, as everybody can see who counts them, one by one, to the end'\n      sleep 0.02\n    done\n    touch @{target}\n";
    for (rows, columns, says) in [(24, 40, false), (24, 80, true), (24, 200, true)] {
        let bed = Bed::new(WIDE);
        let mut terminal = Terminal::start_in(&bed, &[], rows, columns);
        terminal.shows("›  out/灯台-の-記録");
        if says {
            terminal.shows("光度 ");
            terminal.shows(" of 9000");
        } else {
            terminal.until("a second", |screen| {
                screen.contains("1.") || screen.contains("2.")
            });
        }
        // The job and the bar, and none of them wrapped.
        let screen = terminal.contents();
        let lines: Vec<&str> = screen
            .lines()
            .filter(|line| !line.trim().is_empty())
            .collect();
        assert_eq!(lines.len(), 2, "{columns}\n{screen}");
        assert_eq!(lines[0].contains('…'), says, "{columns}\n{screen}");
        bed.write("open", "");
        let (status, screen) = terminal.end();
        assert_eq!(status, Some(0), "{screen}");
        let whole = screen.replace(['\n', ' '], "");
        assert_eq!(whole.matches("光度").count(), 1, "{columns}\n{screen}");
        assert!(screen.contains("made  out/灯台-の-記録"), "{screen}");
    }
}

#[test]
fn two_thousand_short_steps_do_not_flood_the_screen() {
    let bed = Bed::in_memory("target out/<n>\n  each n in @{all}\n  recipe: : > @{target}\n");
    let numbers: Vec<String> = (1..=2000).map(|number| number.to_string()).collect();
    let text = format!("let all = {}\n{}", numbers.join(" "), bed.read("hand.loom"));
    bed.write("hand.loom", &text);
    let mut terminal = Terminal::start_in(&bed, &["-j4"], 30, 100);
    terminal.until("the end", |screen| screen.contains("2000 made in "));
    let screen = terminal.contents();
    assert!(
        screen.contains("   made  out/<n>  and 1800 more, "),
        "{screen}"
    );
    assert!(
        !screen.contains('›') && !screen.contains('▚') && !screen.contains('╎'),
        "{screen}"
    );
    // 200 lines, what was counted, the sum: none of the block's is left between them.
    terminal.screen.screen_mut().set_scrollback(400);
    let mut all = 0;
    for back in (0..=400).rev() {
        terminal.screen.screen_mut().set_scrollback(back);
        let top = terminal.contents();
        let first = top.lines().next().unwrap_or("").to_owned();
        all += usize::from(first.starts_with("   made  out/"));
        assert!(!first.contains('›') && !first.contains('▚'), "{first}");
    }
    assert!(all >= 170, "{all}");
    assert_eq!(terminal.end().0, Some(0));
}
