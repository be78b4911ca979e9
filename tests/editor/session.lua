-- A session of Neovim with the language server, without a screen:
--   JACKAL=PROGRAM nvim --headless -u NONE -i NONE -S session.lua PLAN
-- It waits for a diagnostic, carries out the action that is offered for it, and waits until it is
-- gone. Prints what it sees; the exit status is 1 if something does not come.
local function say(text) io.stdout:write(text .. "\n") end

local function fail(text)
    say("FAILED: " .. text)
    vim.cmd("cquit 1")
end

local function wait(what, holds)
    if not vim.wait(20000, holds, 20) then fail(what) end
end

local function diagnostics()
    local found = {}
    for _, one in ipairs(vim.diagnostic.get(0)) do found[#found + 1] = one.code end
    table.sort(found)
    return table.concat(found, " ")
end

local client = vim.lsp.start_client({ name = "jackal", cmd = { vim.env.JACKAL, "lsp" } })
if client == nil then fail("the server does not start") end
vim.lsp.buf_attach_client(0, client)

wait("no diagnostic", function() return diagnostics() ~= "" end)
say("shown: " .. diagnostics())
local first = vim.diagnostic.get(0)[1]
say(string.format("line %d: %s", first.lnum + 1, first.message))

-- The names at that place, as the editor asks for them.
vim.api.nvim_win_set_cursor(0, { first.lnum + 1, first.col })
local function ask(method, params)
    local answers = vim.lsp.buf_request_sync(0, method, params, 20000)
    if answers == nil or answers[client] == nil or answers[client].err then
        fail(method .. " is not answered")
    end
    return answers[client].result
end

local actions
wait("no action", function()
    local params = vim.lsp.util.make_range_params()
    params.context = { diagnostics = vim.lsp.diagnostic.get_line_diagnostics(0) }
    actions = ask("textDocument/codeAction", params)
    return actions ~= nil and actions[1] ~= nil
               and (vim.env.ACTION == nil or actions[1].title:find(vim.env.ACTION, 1, true))
end)
for _, action in ipairs(actions) do say("offered: " .. action.title) end
ask("workspace/executeCommand", {
    command = actions[1].command.command,
    arguments = actions[1].command.arguments,
})
wait("the diagnostic stays", function() return diagnostics() == "" end)
say("gone")

vim.cmd("silent write")
vim.cmd("quit!")
