-- What the test drives Neovim through: a file is opened, looked at, asked about, changed, laid out and built from.
local lines = {}
local function say(...) table.insert(lines, table.concat({...}, " ")) end
local function wait(what, ready)
  if not vim.wait(20000, ready, 10) then say("never:", what) end
end
vim.cmd("edit hand.loom")
say("filetype", vim.bo.filetype, vim.bo.commentstring)
wait("a mistake", function() return #vim.diagnostic.get(0) > 0 end)
for _, one in ipairs(vim.diagnostic.get(0)) do
  say("mistake", one.lnum, one.col, one.code, (one.message:gsub("\n.*", "")))
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
say("references", #ask("textDocument/references", 1, 5, { context = { includeDeclaration = true } }))
local offered = {}
for _, one in ipairs(ask("textDocument/completion", 3, 19)) do table.insert(offered, one.label) end
say("offered", unpack(offered))
-- The fix that is offered at the mistake.
vim.api.nvim_win_set_cursor(0, { 3, 25 })
local params = vim.lsp.util.make_range_params()
params.context = { diagnostics = {} }
local fixes = vim.lsp.buf_request_sync(0, "textDocument/codeAction", params, 20000)
for _, answer in pairs(fixes) do
  say("fix", answer.result[1].title)
  vim.lsp.util.apply_workspace_edit(answer.result[1].edit, "utf-16")
end
say("fixed", vim.fn.getline(3))
vim.lsp.util.apply_workspace_edit(ask("textDocument/rename", 1, 5, { newName = "light" }), "utf-16")
say("renamed", vim.fn.getline(1), "/", vim.fn.getline(3))
vim.fn.setline(3, "  recipe:   echo @{light} > out")
wait("no mistake", function() return #vim.diagnostic.get(0) == 0 end)
say("told", (ask("textDocument/hover", 3, 19).contents.value:gsub("\n.*", "")))
vim.lsp.buf.formatting_sync(nil, 20000)
say("laid out", vim.fn.getline(4))
vim.cmd("write")
-- What stands between the lines.
vim.lsp.codelens.refresh()
wait("lenses", function() return #vim.lsp.codelens.get(0) > 0 end)
local lenses = {}
for _, lens in ipairs(vim.lsp.codelens.get(0)) do table.insert(lenses, lens.command.title) end
say("lenses", table.concat(lenses, ","))
-- Indentation, as it comes while one types.
vim.cmd("normal! Go\rtarget x\rneeds a\rrecipe:\recho a\recho b")
say("typed", table.concat(vim.fn.getline(vim.fn.line("$") - 5, "$"), "|"))
vim.api.nvim_buf_set_lines(0, 15, -1, false, {})
vim.cmd("write")
-- Builds, in a window of its own.
vim.cmd("Handloom out")
wait("the file", function() return vim.fn.filereadable("out") == 1 and vim.fn.getfsize("out") > 0 end)
say("built", vim.fn.readfile("out")[1])
vim.cmd("wincmd p")
-- The project's task with the file that is edited, picked from what is offered.
vim.cmd("edit src/lamp.c")
vim.ui.select = function(choices, how, done)
  local shown = {}
  for _, choice in ipairs(choices) do table.insert(shown, how.format_item(choice)) end
  say("choices", table.concat(shown, ","))
  for _, choice in ipairs(choices) do
    if choice.shown:find("^run show src/lamp.c") then return done(choice) end
  end
end
vim.cmd("HandloomPick")
wait("the task", function() return vim.fn.filereadable("shown") == 1 and vim.fn.getfsize("shown") > 0 end)
say("shown", vim.fn.trim(vim.fn.readfile("shown")[1]))
vim.cmd("wincmd p")
-- In the background, and what a compiler says stands in the source.
vim.cmd("Handloom! lamp.o")
local source = vim.fn.bufnr("src/lamp.c")
wait("a warning", function() return #vim.diagnostic.get(source) > 0 end)
for _, one in ipairs(vim.diagnostic.get(source)) do
  say("said of the source", one.lnum, one.col, one.code, (one.message:gsub("\n.*", "")))
end
vim.cmd("HandloomFailures")
say("listed", #vim.fn.getqflist())
-- Stopped.
vim.cmd("Handloom! run slow")
wait("its beginning", function() return vim.fn.filereadable("begun") == 1 end)
local messages = {}
vim.lsp.handlers["window/showMessage"] = function(_, result) table.insert(messages, result.message) end
vim.cmd("HandloomStop")
wait("its end", function() return #messages > 0 end)
say("stopped", (messages[1]:gsub(" in .*", "")))
-- The recorded places of completion, each in a description of its own.
vim.cmd("edit! " .. vim.env.HANDLOOM_PLACES .. "/hand.loom")
local function knows_names()
  local asked = { command = "handloom.goals", arguments = { { file = vim.api.nvim_buf_get_name(0) } } }
  for _, answer in pairs(vim.lsp.buf_request_sync(0, "workspace/executeCommand", asked, 20000) or {}) do
    for _, goal in ipairs(answer.result or {}) do
      if goal.kind == "target" and #goal.words > 0 then return true end
    end
  end
end
wait("a server", function() return next(vim.lsp.buf_get_clients(0)) ~= nil end)
for _ = 1, 400 do
  if knows_names() then break end
  vim.wait(50)
end
vim.o.virtualedit = "onemore"
local root = vim.api.nvim_buf_get_lines(0, 0, -1, false)
for _, place in ipairs(vim.fn.json_decode(vim.fn.readfile(vim.env.HANDLOOM_PLACES .. "/places.json"))) do
  local text = vim.split(place[1] .. place[2], "\n")
  vim.api.nvim_buf_set_lines(0, 0, -1, false, vim.list_extend(vim.list_slice(root), text))
  local before = vim.split(place[1], "\n")
  local labels = {}
  for _, one in ipairs(ask("textDocument/completion", #root + #before, #before[#before])) do
    table.insert(labels, one.label)
  end
  local found = table.concat(labels, ", ")
  if found ~= place[3] then say("offered instead of " .. place[3] .. ": " .. found, "at", place[1]) end
end
say("places", #vim.fn.json_decode(vim.fn.readfile(vim.env.HANDLOOM_PLACES .. "/places.json")))
vim.fn.writefile(lines, "said")
vim.cmd("qa!")
