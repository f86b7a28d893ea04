-- How a description is written: comments, and two blanks for each step in.
vim.bo.commentstring = "# %s"
vim.bo.comments = ":#"
vim.bo.expandtab = true
vim.bo.shiftwidth = 2
vim.bo.softtabstop = 2
vim.b.undo_ftplugin = "setlocal commentstring< comments< expandtab< shiftwidth< softtabstop<"
