-- Hand Loom in Neovim, 0.7 or later: its server for each project that is edited, and `:Handloom WORDS` to build from here.
--
-- Put this folder and ../vim (the colours) on the 'runtimepath'. `vim.g.handloom_program` names the program, `handloom` if it is
-- not set.

if vim.g.loaded_handloom then
  return
end
vim.g.loaded_handloom = true

local function program()
  return vim.g.handloom_program or "handloom"
end

-- The nearest folder around a file that has a description, the file's own without one. The program itself finds the project
-- that it is a part of.
local function root_of(file)
  local folder = vim.fn.fnamemodify(file, ":p:h")
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

-- A server for each project, by its folder.
local clients = {}

local function attach(buffer)
  local file = vim.api.nvim_buf_get_name(buffer)
  if file == "" or vim.fn.executable(program()) == 0 then
    return
  end
  local root = root_of(file)
  local client = clients[root]
  if not client or not vim.lsp.get_client_by_id(client) then
    client = vim.lsp.start_client({
      name = "handloom",
      cmd = { program(), "language-server" },
      root_dir = root,
    })
    clients[root] = client
  end
  if client then
    vim.lsp.buf_attach_client(buffer, client)
    vim.bo[buffer].omnifunc = "v:lua.vim.lsp.omnifunc"
  end
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

-- Runs the program in the project of the file that is edited, in a window of its own.
vim.api.nvim_create_user_command("Handloom", function(typed)
  local root = root_of(vim.api.nvim_buf_get_name(0))
  local words = vim.list_extend({ program() }, typed.fargs)
  vim.cmd("botright new")
  vim.fn.termopen(words, { cwd = root })
end, { nargs = "*", complete = "file", desc = "Build with Hand Loom, or whatever its words say" })
