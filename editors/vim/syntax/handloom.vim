" Syntax of hand.loom descriptions.
if exists("b:current_syntax")
  finish
endif

syn match   loomComment  "\(^\|\s\)#.*$"
syn match   loomTop      "^\(let\|default\|target\|task\|include\|recipes\|supply\|setting\|env\|language\)\>"
syn match   loomClause   "^\s\+\(about\|needs\|after\|each\|learn\|given\|let\|env\|in\|when\|takes\|limit\|retry\|on\|terminal\|remember\|stays\|sealed\|store\|always\|resumes\|guarded\|fleeting\|steps\|finally\|ready\|recipe\)\>"
syn match   loomOperator "\s\(one of\|files\|file\|if there\|except\|secret\|or\|output\|match\|only\|value\|table\|take\|where\|into\|when\|is\|not\|has\|before\|above\|below\|and\|with\|lines\|watched\)\s"
syn match   loomLabel    "\<[A-Za-z_][A-Za-z0-9_-]*:\(\s\)\@="
syn match   loomVariable "@{[^}]*}"
syn match   loomHole     "<[A-Za-z_][A-Za-z0-9_-]*\(\*\*\)\?>"
syn region  loomString   start=+"+ skip=+\\"+ end=+"+ oneline contains=loomVariable
syn region  loomString   start=+'+ end=+'+ oneline

" A script's own text has none of these words, and variables all the same.
syn region  loomRaw      matchgroup=loomClause start="^\z(\s\+\)\(recipe\|ready\|finally\|about\)\>[^:]*:\s*$" skip="^\(\z1\s\|\s*$\)" end="^"me=s-1 contains=loomVariable keepend
syn match   loomRawLine  "\(^\s\+\(recipe\|ready\|finally\|about\)\>[^:]*:\s\)\@<=\S.*$" contains=loomVariable

hi def link loomComment  Comment
hi def link loomTop      Keyword
hi def link loomClause   Keyword
hi def link loomOperator Operator
hi def link loomLabel    Tag
hi def link loomVariable Identifier
hi def link loomHole     Special
hi def link loomString   String

let b:current_syntax = "handloom"
