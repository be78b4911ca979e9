-- For scripts/screenshots: a plan in Neovim with the language server, what is wrong beside the
-- lines, and what is known of the thing under the cursor.
--   PLACE=TEXT nvim -u NONE -i NONE -S scripts/editor.lua PLAN
vim.o.number, vim.o.signcolumn, vim.o.laststatus, vim.o.background = true, "yes", 2, "dark"
vim.cmd("syntax on")
vim.bo.filetype = "yaml"
local client = vim.lsp.start_client({ name = "jackal", cmd = { "jackal", "lsp" } })
vim.lsp.buf_attach_client(0, client)
vim.wait(10000, function() return #vim.diagnostic.get(0) > 0 end, 20)
vim.fn.search(vim.env.PLACE)
vim.lsp.buf.hover()
vim.cmd("redraw")
