-- How far a line of a description stands in: clauses below their target or task, a script below its keyword, and what
-- begins an item at the left edge.

local TOP = { "target", "task", "include", "default", "recipes", "supply", "setting", "language" }
-- Keywords that words or a script may follow on the lines below.
local OPENS = { "needs", "after", "each", "steps", "learn", "takes" }

local function first_word(text)
  return text:match("^%s*([%w-]*)") or ""
end

-- The line that opens the script which a line is a part of, and none elsewhere.
local function script_around(line, indent)
  for above = line - 1, 1, -1 do
    local text = vim.fn.getline(above)
    if text:match("%S") then
      local at = vim.fn.indent(above)
      if at < indent then
        if text:match("^%s+[%w-]+.*:%s*$") and vim.tbl_contains({ "recipe", "ready", "finally", "about" }, first_word(text)) then
          return above
        end
        indent = at
      end
      if at == 0 then
        return nil
      end
    end
  end
end

function _G.handloom_indent()
  local line = vim.v.lnum
  local text = vim.fn.getline(line)
  local step = vim.fn.shiftwidth()
  local above = vim.fn.prevnonblank(line - 1)
  if above == 0 then
    return 0
  end
  local before = vim.fn.getline(above)
  local indent = vim.fn.indent(above)
  local opens_script = before:match("^%s+[%w-]+.*:%s*$")
    and vim.tbl_contains({ "recipe", "ready", "finally", "about" }, first_word(before))
  if opens_script then
    return indent + step
  end
  local is_script = script_around(above, indent) ~= nil
  if not is_script then
    if vim.tbl_contains(TOP, first_word(text)) then
      return 0
    end
    -- A blank line ends an item.
    if above < line - 1 and not text:match("%S") then
      return 0
    end
    if vim.tbl_contains(OPENS, vim.trim(before)) then
      return indent + step
    end
  end
  if indent == 0 then
    local word = first_word(before)
    return (word == "target" or word == "task") and step or 0
  end
  return indent
end

vim.bo.indentexpr = "v:lua.handloom_indent()"
vim.bo.indentkeys = "!^F,o,O,0=target ,0=task ,0=include ,0=default ,0=supply ,0=setting "
vim.b.undo_indent = "setlocal indentexpr< indentkeys<"
