//! `handloom report`: a run as text, JSON, page, trace and JUnit XML, read back by libraries and by a browser.

use std::path::Path;
use std::process::Command;

use serde_json::Value;

use crate::bed::Bed;

/// Two ways to `end`, of which the one over `slow` is longer; one step fails, with hard names and output.
const LOOM: &str = r##"
target quick
  needs a
  recipe: cp @{needs} @{target}
target slow
  needs a
  recipe: sleep 0.2; cp @{needs} @{target}
target end
  needs quick slow
  recipe: cat @{needs} > @{target}
target copies/<n>
  about: Copies
  needs each in/<n>
  recipe: cp @{needs} @{target}
target "bad </script><b>"
  needs a
  recipe:
    printf '%s\n' '</script><script>document.title = "owned"</script> & ]]> \e[31m'
    printf '\033[31mred\033[0m\n'
    exit 3
target behind
  needs "bad </script><b>"
  recipe: cp "@{needs}" @{target}
"##;

fn failed_run() -> Bed {
    let bed = Bed::new(LOOM);
    for name in ["a", "in/x", "in/y", "in/z"] {
        bed.write(name, name);
    }
    let _ = bed
        .run(&[
            "end",
            "copies/*",
            "behind",
            "--on-failure",
            "continue",
            "-j2",
        ])
        .status(1);
    bed
}

fn json(bed: &Bed, arguments: &[&str]) -> Value {
    let mut all = vec!["report", "--format", "json"];
    all.extend(arguments);
    serde_json::from_str(&bed.run(&all).status(0).out).unwrap()
}

fn texts<'v>(values: &'v Value, key: &str) -> Vec<&'v str> {
    let values = values.as_array().unwrap().iter();
    values.map(|value| value[key].as_str().unwrap()).collect()
}

#[test]
fn the_longest_way_and_where_the_time_went() {
    let bed = failed_run();
    let run = json(&bed, &[]);
    assert_eq!(texts(&run["longest"], "step"), ["slow", "end"]);
    let least = run["least"].as_f64().unwrap();
    assert!((0.2..run["seconds"].as_f64().unwrap()).contains(&least));
    assert_eq!(run["groups"][0]["by"], "slow");
    let copies = run["groups"].as_array().unwrap().iter();
    let copies = copies
        .clone()
        .find(|group| group["by"] == "copies/<n>")
        .unwrap();
    assert_eq!(copies["jobs"], 3);
    assert_eq!(copies["place"], "hand.loom:11");
    let step = |name: &str| {
        let steps = run["steps"].as_array().unwrap().iter();
        steps.clone().find(|step| step["step"] == name).unwrap()
    };
    assert_eq!(step("end")["after"], "slow");
    assert_eq!(step("slow")["after"], Value::Null);
    assert_eq!(step("behind")["ending"], "held");
    let printed = step("bad </script><b>")["printed"].as_str().unwrap();
    assert!(
        printed.contains("]]>") && printed.contains("red"),
        "{printed}"
    );
    assert_eq!(run["before"], Value::Null);
    assert_eq!(run["summary"]["held"], 1);
}

/// The way through a set, and through a step that was spared, leads on.
#[test]
fn the_longest_way_passes_through_what_did_not_run() {
    let bed = Bed::new(
        "target p/<n>\n  needs each in/<n>\n  recipe: sleep 0.1; cp @{needs} @{target}\ntarget same\n  needs p/*\n  recipe: echo x > @{target}\ntarget last\n  needs same\n  after p/a\n  recipe: cp @{needs} @{target}\ntask all\n  needs last\ntask tell\n  after all\n  needs same\n  recipe: true\n",
    );
    bed.write("in/a", "1");
    bed.write("in/b", "1");
    let _ = bed.run(&["tell"]).status(0);
    let longest = json(&bed, &[]);
    let longest = texts(&longest["longest"], "step");
    assert_eq!(longest[1..], ["same", "last", "tell"], "{longest:?}");
    bed.write("in/a", "2");
    let _ = bed.run(&["tell"]).status(0);
    let longest = json(&bed, &[]);
    assert_eq!(texts(&longest["longest"], "step"), ["p/a", "same", "tell"]);
}

#[test]
fn times_are_compared_with_earlier_runs() {
    let bed = Bed::new("target out\n  needs a\n  recipe: sleep $(cat a); cp @{needs} @{target}\n");
    bed.write("a", "0.25");
    let _ = bed.run(&[]).status(0);
    bed.write("a", "0");
    let _ = bed.run(&[]).status(0);
    let now = json(&bed, &[]);
    assert_eq!(now["run"], 2);
    assert_eq!(now["before"]["run"], 1);
    assert!(now["steps"][0]["before"].as_f64().unwrap() >= 0.25);
    bed.run(&["report"])
        .status(0)
        .says(&["run 2", "longer or shorter than before", "before 0."]);
    bed.run(&["report", "1"])
        .status(0)
        .says(&["run 1", "never made"])
        .says_not("than before");
}

#[test]
fn build_servers_read_the_results() {
    let bed = failed_run();
    bed.run(&["report", "--to", "run.xml"])
        .status(0)
        .says(&["wrote run.xml"]);
    let text = bed.read("run.xml");
    let document = roxmltree::Document::parse(&text).unwrap();
    let root = document.root_element();
    assert_eq!(root.tag_name().name(), "testsuites");
    for (name, value) in [
        ("tests", "8"),
        ("failures", "1"),
        ("skipped", "1"),
        ("errors", "0"),
    ] {
        assert_eq!(root.attribute(name), Some(value), "{name}: {text}");
    }
    let cases: Vec<roxmltree::Node<'_, '_>> = document
        .descendants()
        .filter(|node| node.has_tag_name("testcase"))
        .collect();
    assert_eq!(cases.len(), 8);
    let bad = cases
        .iter()
        .find(|case| case.attribute("name") == Some("bad </script><b>"))
        .unwrap();
    let failure = bad
        .children()
        .find(|node| node.has_tag_name("failure"))
        .unwrap();
    assert!(
        failure
            .attribute("message")
            .unwrap()
            .starts_with("exit status 3 (hand.loom:")
    );
    assert!(
        failure.text().unwrap().contains("</script><script>"),
        "{text}"
    );
    let suites: Vec<&str> = document
        .descendants()
        .filter(|node| node.has_tag_name("testsuite"))
        .filter_map(|suite| suite.attribute("name"))
        .collect();
    assert!(suites.contains(&"copies/<n>"), "{suites:?}");
    let time: f64 = root.attribute("time").unwrap().parse().unwrap();
    assert!(time >= 0.2, "{time}");
}

#[test]
fn profilers_read_the_trace() {
    let bed = failed_run();
    let _ = bed.run(&["report", "--to", "run.json"]).status(0);
    let trace: Value = serde_json::from_str(&bed.read("run.json")).unwrap();
    let events = trace["traceEvents"].as_array().unwrap();
    let jobs: Vec<&Value> = events.iter().filter(|event| event["ph"] == "X").collect();
    assert_eq!(jobs.len(), 7, "held steps did not run");
    for job in &jobs {
        assert!(job["ts"].as_f64().unwrap() >= 0.0);
        assert!(job["dur"].as_f64().unwrap() > 0.0);
        assert!(job["tid"].as_u64().unwrap() < 2);
    }
    let slow = jobs.iter().find(|job| job["name"] == "slow").unwrap();
    assert!(slow["dur"].as_f64().unwrap() >= 200_000.0, "microseconds");
    assert_eq!(slow["args"]["why"][0], "never made");
    // No two jobs of one thread at once.
    for job in &jobs {
        let end = job["ts"].as_f64().unwrap() + job["dur"].as_f64().unwrap();
        let after = jobs.iter().filter(|other| {
            other["tid"] == job["tid"] && other["ts"].as_f64() > job["ts"].as_f64()
        });
        for other in after {
            assert!(
                other["ts"].as_f64().unwrap() + 101.0 >= end,
                "{job} {other}"
            );
        }
    }
    let names = events.iter().filter(|event| event["name"] == "thread_name");
    assert_eq!(names.count(), 2);
}

#[test]
fn the_page_needs_nothing_else_and_says_it_all() {
    let bed = failed_run();
    let _ = bed.run(&["report", "--to", "run.html"]).status(0);
    let page = bed.read("run.html");
    for text in [
        "<h1><span>project</span> run 1</h1>",
        "What failed",
        "exit status 3",
        "The longest way",
        "Where the time went",
        "copies/&lt;n&gt;",
        "1 step not run because of it",
    ] {
        assert!(page.contains(text), "{text}\n{page}");
    }
    for from_elsewhere in [
        "src=", "href=", "url(", "http:", "https:", "@import", "fetch(",
    ] {
        assert!(!page.contains(from_elsewhere), "{from_elsewhere}");
    }
    // Three scripts end: nothing that a job printed or is called ends one, or begins another.
    assert_eq!(page.matches("</script>").count(), 2, "{page}");
    assert_eq!(page.matches("<script").count(), 2, "{page}");
}

/// Runs a page in Chromium with a script at its end, and gives the document as it is then; none without
/// Chromium, unless HANDLOOM_CHROMIUM says that it must be there.
fn browsed(page: &Path, script: &str, dark: bool) -> Option<String> {
    let text = std::fs::read_to_string(page).unwrap();
    let errors =
        "<script>window.onerror = (what) => { document.title = `error: ${what}`; };</script>";
    let end = format!("<script>{{{script}}}</script></html>");
    let text = text
        .replace("<title>", &format!("{errors}<title>"))
        .replace("</html>", &end);
    std::fs::write(page, text).unwrap();
    let output = Command::new("chromium")
        .args([
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-dev-shm-usage",
        ])
        .args([
            "--window-size=1280,800",
            "--virtual-time-budget=3000",
            "--dump-dom",
        ])
        .arg(if dark {
            "--blink-settings=preferredColorScheme=0"
        } else {
            "--blink-settings=preferredColorScheme=1"
        })
        .arg(format!(
            "--user-data-dir={}",
            page.with_extension("profile").display()
        ))
        .arg(format!("file://{}", page.display()))
        .output();
    match output {
        Ok(output) => Some(String::from_utf8_lossy(&output.stdout).into_owned()),
        Err(error) => {
            let required = std::env::var_os("HANDLOOM_CHROMIUM").is_some();
            assert!(!required, "chromium: {error}");
            None
        }
    }
}

/// What a script at a page's end found out.
fn results(seen: &str) -> &str {
    let behind = seen.split("id=\"results\">").nth(1).unwrap_or(seen);
    behind.split('<').next().unwrap()
}

#[test]
fn a_browser_draws_the_page_and_keys_go_from_job_to_job() {
    let bed = failed_run();
    for dark in [false, true] {
        let _ = bed.run(&["report", "--to", "run.html"]).status(0);
        let script = r##"
            const canvas = document.querySelector("canvas");
            const press = (key) => canvas.dispatchEvent(new KeyboardEvent("keydown", { key, cancelable: true }));
            const told = () => document.getElementById("told").textContent;
            const inked = () => {
              const data = canvas.getContext("2d").getImageData(0, 0, canvas.width, canvas.height).data;
              let count = 0;
              for (let at = 3; at < data.length; at += 4) count += data[at] > 0;
              return count;
            };
            const results = [inked() > 2000, canvas.clientHeight];
            const names = new Set();
            press("ArrowRight");
            for (let at = 0; at < 9; at += 1) { names.add(told().split(" ")[0]); press("ArrowRight"); }
            press("ArrowDown");
            for (let at = 0; at < 9; at += 1) press("ArrowRight");
            for (let at = 0; at < 9; at += 1) { names.add(told().split(" ")[0]); press("ArrowLeft"); }
            results.push([...names].sort().join(","));
            const before = inked();
            press("+"); press("+"); press("+");
            results.push(inked() !== before);
            press("0");
            const only = document.getElementById("only");
            only.value = "copies/ never";
            only.dispatchEvent(new Event("input"));
            results.push([...document.querySelectorAll(".all tbody tr")].filter((row) => !row.hidden).length);
            results.push(getComputedStyle(document.body).backgroundColor);
            document.body.append(Object.assign(document.createElement("p"), { id: "results", textContent: results.join("|") }));
        "##;
        let Some(seen) = browsed(&bed.path("run.html"), script, dark) else {
            return;
        };
        assert!(seen.contains("<title>project: run 1</title>"), "{seen}");
        let results = results(&seen);
        let ground = if dark {
            "rgb(23, 25, 30)"
        } else {
            "rgb(251, 250, 247)"
        };
        let expected =
            format!("true|86|bad,copies/x,copies/y,copies/z,end,quick,slow|true|3|{ground}");
        assert_eq!(results, expected);
    }
}

#[test]
fn runs_that_are_not_there_and_files_that_cannot_be_written() {
    let bed = Bed::new("target out\n  recipe: echo x > @{target}\n");
    bed.run(&["report"])
        .status(2)
        .says(&["nothing has run in this project yet"]);
    let _ = bed.run(&[]).status(0);
    bed.run(&["report", "7"])
        .status(2)
        .says(&["there is no record of run 7", "handloom history"]);
    bed.run(&["report", "--to", "run.pdf"])
        .status(2)
        .says(&["`run.pdf` is no report", ".html"]);
    bed.run(&["report", "--to", "nowhere/run.html"])
        .status(3)
        .says(&["can't write `nowhere/run.html`"]);
}

/// Three runs: all is made, one step fails, and all comes back from the store after other values.
fn several_runs() -> Bed {
    let bed = Bed::new(
        "let word = one\ntarget slow\n  needs a\n  recipe: sleep 0.2; echo @{word} | cat - @{needs} > @{target}\ntarget big.o\n  needs big.c\n  recipe: cc -Wall -c @{needs} -o @{target}\n",
    )
    .with_store();
    bed.write("a", "1\n");
    bed.write("big.c", "int f(int a) { int unused; return a; }\n");
    let _ = bed.run(&[]).status(0);
    bed.write("big.c", "int f(int a)\n{ return b; }\n");
    let _ = bed
        .run(&["--let", "word=two", "--on-failure", "continue"])
        .status(1);
    bed.write("big.c", "int f(int a) { int unused; return a; }\n");
    bed.remove("big.o");
    let _ = bed.run(&[]).status(0);
    bed
}

#[test]
fn what_was_said_restored_and_waited_for_is_told() {
    let bed = several_runs();
    let failed = json(&bed, &["2"]);
    let said: Vec<String> = failed["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| {
            format!(
                "{} {} {}:{}",
                one["step"], one["level"], one["file"], one["line"]
            )
        })
        .collect();
    // The error first, then what else was said.
    assert_eq!(said[0], "\"big.o\" \"error\" \"big.c\":2");
    assert!(said.len() > 1 && said[1].contains("warning"), "{said:?}");
    // A failed run's report begins with the first error of each failed step.
    let text = bed.run(&["report", "2"]).status(0).out;
    let first = "  big.o  exit status 1 (hand.loom:7), what it printed: .handloom/logs/2/";
    let at = text.find(first).unwrap_or_else(|| panic!("{text}"));
    let behind = text[at..].lines().nth(1).unwrap();
    assert!(behind.trim_start().starts_with("big.c:2:"), "{text}");
    assert!(behind.contains(": error: "), "{text}");
    assert!(text[..at].ends_with("what failed\n   ") || text[..at].contains("what failed\n"));
    let restored = json(&bed, &["3"]);
    assert_eq!(restored["restored"], 2);
    // How long each took when it was made, without what fetching it took now.
    let steps = restored["steps"].as_array().unwrap().iter();
    let saved: f64 = steps
        .map(|step| {
            let then = step["from"]["took"].as_f64().unwrap() / 1e9;
            (then - step["seconds"].as_f64().unwrap()).max(0.0)
        })
        .sum();
    let told = restored["saved"].as_f64().unwrap();
    assert!((told - saved).abs() < 0.001, "{saved}: {restored}");
    bed.run(&["report"])
        .status(0)
        .says(&["restored: 2 steps, which saved "]);
    bed.run(&["report", "2", "--to", "run.html"])
        .status(0)
        .says(&["wrote run.html"]);
    let page = bed.read("run.html");
    assert!(page.contains("<p class=\"first\">big.c:2:"), "{page}");
    assert!(page.contains("<h2>What was said of sources</h2>"), "{page}");
}

#[test]
fn two_runs_stand_side_by_side() {
    let bed = several_runs();
    let two = json(&bed, &["2", "--against", "1"]);
    assert_eq!((&two["run"], &two["against"]), (&2.into(), &1.into()));
    let both = two["both"].as_array().unwrap().iter();
    let both: Vec<String> = both
        .map(|pair| {
            format!(
                "{} {} {}",
                pair["step"], pair["against"]["ending"], pair["run"]["ending"]
            )
        })
        .collect();
    assert!(
        both.contains(&"\"big.o\" \"made\" \"failed\"".to_owned()),
        "{both:?}"
    );
    let figures = two["figures"].as_array().unwrap().iter();
    let failed = figures.clone().find(|one| one["name"] == "failed").unwrap();
    assert_eq!(
        (&failed["run"], &failed["against"]),
        (&1.0.into(), &0.0.into())
    );
    bed.run(&["report", "2", "--against", "1"])
        .status(0)
        .says(&[
            "run 1",
            "run 2",
            "ended otherwise\n  failed  big.o  before: made\n",
        ]);
    // The last run, when none is named.
    bed.run(&["report", "--against", "1"])
        .status(0)
        .says(&["2 restored", "2 made"]);
    bed.run(&["report", "--against", "9"])
        .status(2)
        .says(&["there is no record of run 9"]);
    bed.run(&["report", "--against", "1", "--to", "two.xml"])
        .status(2)
        .says(&["`two.xml` is no report of several runs"]);
    bed.run(&["report", "--against", "1", "--to", "two.html"])
        .status(0)
        .says(&["wrote two.html"]);
    let page = bed.read("two.html");
    assert!(
        page.contains("run 3 against run 1") && !page.contains("<script"),
        "{page}"
    );
}

#[test]
fn the_history_shows_all_runs_as_text_as_json_and_as_a_page_without_scripts() {
    let bed = several_runs();
    let history = json(&bed, &["--history"]);
    let runs = history["runs"].as_array().unwrap().iter();
    let runs: Vec<String> = runs
        .map(|run| {
            format!(
                "{} {} {} {}",
                run["run"], run["ran"], run["restored"], run["failed"]
            )
        })
        .collect();
    assert_eq!(runs, ["1 2 0 0", "2 2 0 1", "3 0 2 0"]);
    let steps = history["steps"].as_array().unwrap();
    assert_eq!(steps.len(), 2);
    let together = |step: &Value| -> f64 {
        let seconds = step["seconds"].as_array().unwrap().iter();
        seconds.filter_map(Value::as_f64).sum()
    };
    // As far as they are written.
    let (first, second) = (together(&steps[0]) + 0.001, together(&steps[1]));
    assert!(first >= second, "what took most first: {history}");
    let slow = steps.iter().find(|step| step["step"] == "slow").unwrap();
    assert_eq!(slow["seconds"][2], Value::Null);
    let failing = &history["failing"][0];
    assert_eq!(
        (
            &failing["step"],
            &failing["failed"],
            &failing["ran"],
            &failing["failed_last"]
        ),
        (&"big.o".into(), &1.into(), &2.into(), &false.into())
    );
    bed.run(&["report", "--history"]).status(0).says(&[
        "3 runs",
        "4 jobs, 2 restored, which saved ",
        "big.o  in 1 of 2 runs, last in run 2: exit status 1; it went well since",
    ]);
    bed.run(&["report", "--history", "--to", "history.html"])
        .status(0)
        .says(&["wrote history.html"]);
    let page = bed.read("history.html");
    assert!(!page.contains("<script"), "{page}");
    assert_eq!(page.matches("<g class=\"").count(), 3, "{page}");
    assert!(page.contains("<title>run 2, "), "{page}");
    // In a browser, in the light and in the dark, as wide as a telephone is: nothing hangs over its edge, and what is wider is
    // reached by keys.
    for dark in [false, true] {
        let _ = bed
            .run(&["report", "--history", "--to", "history.html"])
            .status(0);
        let script = r##"
            document.body.style.width = "390px";
            const sections = [...document.querySelectorAll("section")];
            const wide = [...document.querySelectorAll(".wide")];
            const results = [
              sections.length,
              sections.every((section) => section.getBoundingClientRect().right <= 391),
              wide.length === 2 && wide.every((one) => { one.focus(); return document.activeElement === one; }),
              document.querySelector(".runs rect").getBoundingClientRect().height > 1,
              getComputedStyle(document.body).backgroundColor,
            ];
            document.body.append(Object.assign(document.createElement("p"), { id: "results", textContent: results.join("|") }));
        "##;
        let Some(seen) = browsed(&bed.path("history.html"), script, dark) else {
            return;
        };
        let results = results(&seen);
        let ground = if dark {
            "rgb(23, 25, 30)"
        } else {
            "rgb(251, 250, 247)"
        };
        assert_eq!(results, format!("4|true|true|true|{ground}"));
    }
    let empty = Bed::new("target a\n  recipe: touch a\n");
    empty
        .run(&["report", "--history"])
        .status(0)
        .says(&["nothing has run in this project yet"]);
}
