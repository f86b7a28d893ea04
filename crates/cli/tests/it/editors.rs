//! Real editors, without a window, with the plugins that ship and the program that was built.

use std::process::Command;

use crate::bed::Bed;

/// What is done in Neovim: a file is opened, looked at, asked about, changed, laid out and built from.
const NEOVIM: &str = r#"
local lines = {}
local function say(...) table.insert(lines, table.concat({...}, " ")) end
local function wait(what, ready)
  if not vim.wait(20000, ready, 10) then say("never:", what) end
end
vim.cmd("edit hand.loom")
say("filetype", vim.bo.filetype, vim.bo.commentstring)
wait("a mistake", function() return #vim.diagnostic.get(0) > 0 end)
for _, one in ipairs(vim.diagnostic.get(0)) do
  say("mistake", one.lnum, one.col, (one.message:gsub("\n.*", "")))
end
local function ask(method, line, column, extra)
  vim.api.nvim_win_set_cursor(0, { line, column })
  local params = vim.tbl_extend("force", vim.lsp.util.make_position_params(), extra or {})
  for _, answer in pairs(vim.lsp.buf_request_sync(0, method, params, 20000)) do
    return answer.result or answer.error
  end
end
for _, place in ipairs(ask("textDocument/definition", 3, 18)) do
  say("definition", place.range.start.line, place.range.start.character)
end
local offered = {}
for _, one in ipairs(ask("textDocument/completion", 3, 19)) do table.insert(offered, one.label) end
say("offered", unpack(offered))
vim.lsp.util.apply_workspace_edit(ask("textDocument/rename", 1, 5, { newName = "light" }), "utf-16")
say("renamed", vim.fn.getline(1), "/", vim.fn.getline(3))
vim.fn.setline(3, "  recipe:   echo @{light} > out")
wait("no mistake", function() return #vim.diagnostic.get(0) == 0 end)
vim.lsp.buf.formatting_sync(nil, 20000)
say("laid out", vim.fn.getline(4))
vim.cmd("write")
vim.cmd("Handloom out")
wait("the file", function() return vim.fn.filereadable("out") == 1 end)
say("built", vim.fn.readfile("out")[1])
vim.fn.writefile(lines, "said")
vim.cmd("qa!")
"#;

#[test]
fn neovim_sees_mistakes_and_builds() {
    let is_there = Command::new("nvim").arg("--version").output().is_ok();
    if !is_there && std::env::var_os("HANDLOOM_EDITORS").is_none() {
        return;
    }
    let bed = Bed::new("let lamp = red\ntarget out\n  recipe: echo @{lamp} @{lmap} > out\n");
    bed.write("drive.lua", NEOVIM);
    let plugins = concat!(env!("CARGO_MANIFEST_DIR"), "/../../editors");
    let output = Command::new("nvim")
        .current_dir(bed.root())
        .env("HOME", bed.path("../home"))
        .env_remove("XDG_CONFIG_HOME")
        .args(["--headless", "-u", "NONE", "-i", "NONE", "-n"])
        .args([
            "--cmd",
            &format!("set runtimepath^={plugins}/nvim,{plugins}/vim"),
        ])
        .args([
            "--cmd",
            &format!(
                "let g:handloom_program = '{}'",
                env!("CARGO_BIN_EXE_handloom")
            ),
        ])
        .args([
            "--cmd",
            "filetype plugin on",
            "--cmd",
            "runtime plugin/handloom.lua",
        ])
        .args(["-c", "luafile drive.lua"])
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success() && bed.exists("said"), "{said}");
    let lines = bed.read("said");
    assert_eq!(
        lines.lines().collect::<Vec<_>>(),
        [
            "filetype handloom # %s",
            "mistake 2 23 there is no variable `lmap` here",
            "definition 0 4",
            "offered lamp",
            "renamed let light = red /   recipe: echo @{light} @{lmap} > out",
            "laid out   recipe: echo @{light} > out",
            "built red",
        ],
        "{said}"
    );
}
