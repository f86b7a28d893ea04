-- Hand Loom in Neovim, 0.7 or later: its server for each project that is edited, and commands to build from here.
--
--   :Handloom WORDS      runs `handloom WORDS` in a window of its own; `%` is the file that is edited
--   :Handloom! WORDS     the same without a window; how it goes is told as it comes
--   :HandloomPick        offers what can be woven, run, watched and asked about, also with the file that is edited
--   :HandloomStop        ends what runs
--   :HandloomFailures    what failed, and what compilers said, as a list to jump through
--
-- Put this folder and ../vim (the colours) on the 'runtimepath'. `vim.g.handloom_program` names the program, `handloom` if it is
-- not set.

if vim.g.loaded_handloom then
  return
end
vim.g.loaded_handloom = true

-- What stands behind a line is no part of it.
vim.cmd("highlight default link LspCodeLens Comment")
vim.cmd("highlight default link LspCodeLensSeparator Comment")

local function program()
  return vim.g.handloom_program or "handloom"
end

-- The nearest folder around a file that has a description, the file's own without one. The program itself finds the project
-- that it is a part of.
local function root_of(file)
  local folder = vim.fn.fnamemodify(file ~= "" and file or vim.fn.getcwd() .. "/x", ":p:h")
  local at = folder
  while vim.fn.filereadable(at .. "/hand.loom") == 0 do
    local above = vim.fn.fnamemodify(at, ":h")
    if above == at then
      return folder
    end
    at = above
  end
  return at
end

local function root()
  return root_of(vim.api.nvim_buf_get_name(0))
end

-- A server for each project, by its folder.
local clients = {}

local function client_of(folder)
  local known = clients[folder] and vim.lsp.get_client_by_id(clients[folder])
  if known or vim.fn.executable(program()) == 0 then
    return known
  end
  clients[folder] = vim.lsp.start_client({
    name = "handloom",
    cmd = { program(), "language-server" },
    root_dir = folder,
  })
  return clients[folder] and vim.lsp.get_client_by_id(clients[folder])
end

local function attach(buffer)
  local file = vim.api.nvim_buf_get_name(buffer)
  local client = file ~= "" and client_of(root_of(file))
  if client then
    vim.lsp.buf_attach_client(buffer, client.id)
    vim.bo[buffer].omnifunc = "v:lua.vim.lsp.omnifunc"
  end
end

-- Runs the program in a window of its own, in a folder.
local function run(folder, words)
  vim.cmd("botright new")
  vim.fn.termopen(vim.list_extend({ program() }, words), { cwd = folder })
  vim.b.handloom_folder = folder
end

-- Asks for the values that a task must have, one after the other.
local function with_values(words, asks, done)
  if #asks == 0 then
    return done(words)
  end
  vim.ui.input({ prompt = asks[1] .. ": ", completion = "file" }, function(value)
    if value then
      with_values(vim.list_extend(vim.list_slice(words), { value }), vim.list_slice(asks, 2), done)
    end
  end)
end

-- What the lines between the lines do (`:lua vim.lsp.codelens.run()`).
vim.lsp.commands["handloom.start"] = function(command)
  local wish = command.arguments[1]
  with_values(wish.words, wish.asks or {}, function(words)
    run(wish.folder, words)
  end)
end

local function execute(command, argument, done)
  local client = client_of(root())
  if not client then
    return vim.notify("handloom is not found: vim.g.handloom_program names it", vim.log.levels.ERROR)
  end
  local function asked()
    client.request("workspace/executeCommand", { command = command, arguments = { argument } }, function(wrong, answer)
      if wrong then
        vim.notify(wrong.message, vim.log.levels.ERROR)
      elseif done then
        done(answer)
      end
    end, 0)
  end
  -- One that was only just begun takes questions once it has answered the first.
  vim.wait(5000, function()
    return client.initialized
  end, 10)
  asked()
end

-- The file that is edited, as the project's folder sees it.
local function this_file(folder)
  local file = vim.api.nvim_buf_get_name(0)
  if file == "" then
    return nil
  end
  local inside = vim.startswith(file, folder .. "/")
  return inside and file:sub(#folder + 2) or file
end

-- All that can be done with the goals of a project, each with its words.
local function choices(goals, file)
  local found = {}
  local function add(shown, words, asks, goal)
    table.insert(found, { shown = shown, words = words, asks = asks or {}, folder = goal.folder })
  end
  for _, goal in ipairs(goals) do
    local about = goal.about and ("  " .. goal.about) or ""
    if goal.kind == "target" then
      for _, verb in ipairs(#goal.words > 0 and { "weave", "why", "watch" } or {}) do
        if verb ~= "why" or (#goal.words == 1 and not goal.words[1]:find("[*?]")) then
          add(verb .. " " .. goal.name .. about, vim.list_extend({ verb }, goal.words), {}, goal)
        end
      end
    else
      local asks = {}
      for _, parameter in ipairs(goal.parameters or {}) do
        if parameter.required then
          table.insert(asks, parameter.name)
        end
      end
      add("run " .. goal.name .. about, goal.words, asks, goal)
      if file and #(goal.parameters or {}) > 0 then
        local words = vim.list_extend(vim.list_slice(goal.words), { file })
        add("run " .. goal.name .. " " .. file .. about, words, vim.list_slice(asks, 2), goal)
      end
    end
  end
  return found
end

local group = vim.api.nvim_create_augroup("handloom", {})
vim.api.nvim_create_autocmd({ "BufNewFile", "BufRead" }, {
  group = group,
  pattern = "*.loom",
  callback = function()
    vim.bo.filetype = "handloom"
  end,
})
vim.api.nvim_create_autocmd("FileType", {
  group = group,
  pattern = "handloom",
  callback = function(event)
    attach(event.buf)
  end,
})
vim.api.nvim_create_autocmd({ "BufEnter", "CursorHold", "InsertLeave", "BufWritePost" }, {
  group = group,
  pattern = "*.loom",
  callback = function(event)
    for _, client in pairs(vim.lsp.buf_get_clients(event.buf)) do
      if client.name == "handloom" and client.initialized then
        vim.lsp.codelens.refresh()
      end
    end
  end,
})

vim.api.nvim_create_user_command("Handloom", function(typed)
  if typed.bang then
    return execute("handloom.start", { folder = root(), words = typed.fargs })
  end
  run(root(), typed.fargs)
end, { nargs = "*", bang = true, complete = "file", desc = "Build with Hand Loom, or whatever its words say" })

vim.api.nvim_create_user_command("HandloomPick", function()
  local file = this_file(root())
  execute("handloom.goals", { file = root() .. "/hand.loom" }, function(goals)
    vim.ui.select(choices(goals, file), {
      prompt = "Hand Loom",
      format_item = function(choice)
        return choice.shown
      end,
    }, function(choice)
      if choice then
        with_values(choice.words, choice.asks, function(words)
          run(choice.folder, words)
        end)
      end
    end)
  end)
end, { desc = "Pick what Hand Loom is to do" })

vim.api.nvim_create_user_command("HandloomStop", function()
  execute("handloom.stop", vim.NIL)
  -- A window's own run is ended as from the keyboard.
  for _, buffer in ipairs(vim.api.nvim_list_bufs()) do
    local is_ours, _ = pcall(vim.api.nvim_buf_get_var, buffer, "handloom_folder")
    local has_job, job = pcall(vim.api.nvim_buf_get_var, buffer, "terminal_job_id")
    if is_ours and has_job then
      pcall(vim.fn.chansend, job, "\003")
    end
  end
end, { desc = "End what Hand Loom runs" })

vim.api.nvim_create_user_command("HandloomFailures", function()
  vim.diagnostic.setqflist({ title = "Hand Loom" })
end, { desc = "List what failed, and what compilers said" })
