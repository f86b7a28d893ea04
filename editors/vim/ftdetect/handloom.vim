autocmd BufNewFile,BufRead hand.loom,*.loom setfiletype handloom
