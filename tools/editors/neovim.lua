-- What Neovim shows in its pictures (tools/screenshots): a mistake and what mends it, or what is offered to be typed.
vim.o.number = true; vim.o.termguicolors = false; vim.cmd("syntax on"); vim.o.laststatus = 0; vim.o.background = "dark"; vim.o.completeopt = "menuone,noselect"
vim.cmd("edit hand.loom")
-- What the project comes to is known once it was checked.
vim.wait(1500, function() return false end)
vim.lsp.codelens.refresh()
vim.wait(500, function() return false end)
if vim.env.WHAT == "fix" then
  vim.api.nvim_win_set_cursor(0, { vim.diagnostic.get(0)[1].lnum + 1, vim.diagnostic.get(0)[1].col })
  vim.cmd("normal! zt")
  vim.schedule(function() vim.lsp.buf.code_action() end)
else
  vim.fn.append(vim.fn.line("$"), { "", "target out/reach.txt", "  needs out/" })
  vim.api.nvim_win_set_cursor(0, { vim.fn.line("$"), 0 })
  vim.cmd("normal! zb")
  vim.fn.feedkeys("A" .. vim.api.nvim_replace_termcodes("<C-x><C-o>", true, false, true), "n")
end
