-- For scripts/screenshots: a plan in Neovim with the language server, what is wrong beside the
-- lines, and what is known of the thing at PLACE.
--   PLACE=TEXT DONE=FILE nvim -u NONE -i NONE -S scripts/editor.lua PLAN
vim.o.number, vim.o.signcolumn, vim.o.background = true, "yes", "dark"
vim.cmd("syntax on")
vim.cmd("highlight NormalFloat ctermbg=238 ctermfg=254")
vim.cmd("highlight SignColumn ctermbg=NONE")
vim.cmd("highlight LineNr ctermfg=244")
vim.bo.filetype = "yaml"
local client = vim.lsp.start_client({ name = "jackal", cmd = { "jackal", "lsp" } })
vim.lsp.buf_attach_client(0, client)
vim.wait(10000, function() return #vim.diagnostic.get(0) > 0 end, 20)
vim.fn.search(vim.env.PLACE)
vim.cmd([[execute "normal! 3\<C-e>"]]) -- so that there is more room below
vim.lsp.buf.hover()
vim.defer_fn(function() vim.fn.writefile({}, vim.env.DONE) end, 1000)
