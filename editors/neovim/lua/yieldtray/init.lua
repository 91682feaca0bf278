-- Yield Tray in Neovim (0.7 and later): starts the language server, shows responses beside the file, asks what the
-- server wants to know. All the rest is the server's, through Neovim's own client.

local M = {}

local defaults = {
  -- How the language server is started.
  cmd = { 'yieldtray', 'lsp' },
  -- Whether values are shown beside their marks, where this Neovim can.
  hints = true,
  -- The command that opens the window of a response.
  window = 'botright vsplit',
  -- Called with the client and the buffer, for maps of your own.
  on_attach = nil,
}

local settings = defaults

-- One client for each workspace.
local clients = {}

local function root_of(file)
  local folder = vim.fn.fnamemodify(file, ':p:h')
  local config = vim.fn.findfile('yieldtray.toml', folder .. ';')
  return config ~= '' and vim.fn.fnamemodify(config, ':p:h') or folder
end

-- Shows a file: a response to read, read-only and without leaving the request; a question to write into.
local function show(file, focus)
  local before = vim.api.nvim_get_current_win()
  local window = nil
  for _, candidate in ipairs(vim.api.nvim_list_wins()) do
    if vim.w[candidate].yieldtray then
      window = candidate
    end
  end
  if window then
    vim.api.nvim_set_current_win(window)
  else
    vim.cmd(settings.window)
    vim.w.yieldtray = true
  end
  vim.cmd('edit! ' .. vim.fn.fnameescape(file))
  vim.bo.swapfile = false
  if focus then
    vim.bo.readonly, vim.bo.modifiable = false, true
  else
    vim.bo.bufhidden = 'wipe'
    vim.bo.modifiable = false
    vim.bo.filetype = 'yieldtray-answer'
    vim.wo.number, vim.wo.signcolumn = false, 'no'
    vim.api.nvim_set_current_win(before)
  end
end

-- Prompts for a value; nil if cancelled.
local function ask(params)
  local choices = params.choices or {}
  if #choices > 0 then
    local lines = { params.question }
    for number, choice in ipairs(choices) do
      table.insert(lines, number .. '. ' .. choice)
    end
    return choices[vim.fn.inputlist(lines)]
  end
  local default = params.default ~= vim.NIL and params.default or nil
  local prompt = params.question .. ' '
  local answer
  if params.secret then
    answer = vim.fn.inputsecret(prompt)
  else
    answer = vim.fn.input(prompt, default or '')
  end
  if answer ~= '' then
    return answer
  end
  return nil
end

local handlers = {
  ['window/showDocument'] = function(_, params)
    show(vim.uri_to_fname(params.uri), params.takeFocus)
    return { success = true }
  end,
  ['yieldtray/ask'] = function(_, params)
    local answer = ask(params)
    if answer == nil then
      return vim.NIL
    end
    return answer
  end,
}

local function start(root)
  local capabilities = vim.lsp.protocol.make_client_capabilities()
  capabilities.window.showDocument = { support = true }
  return vim.lsp.start_client({
    name = 'yieldtray',
    cmd = settings.cmd,
    root_dir = root,
    capabilities = capabilities,
    handlers = handlers,
    init_options = { asks = true, hints = settings.hints },
    on_attach = function(client, buffer)
      M.attached(client, buffer)
    end,
    on_exit = function()
      clients[root] = nil
    end,
  })
end

-- The setup of every buffer.
function M.attached(client, buffer)
  local refresh = function()
    pcall(vim.lsp.codelens.refresh)
  end
  vim.api.nvim_create_autocmd({ 'BufEnter', 'InsertLeave', 'TextChanged' }, { buffer = buffer, callback = refresh })
  vim.defer_fn(refresh, 0)
  vim.bo[buffer].omnifunc = 'v:lua.vim.lsp.omnifunc'
  if settings.hints and vim.lsp.inlay_hint then
    pcall(vim.lsp.inlay_hint.enable, true, { bufnr = buffer })
  end
  if settings.on_attach then
    settings.on_attach(client, buffer)
  end
end

-- Attaches the server to a buffer, and starts it for its workspace if that is not done.
function M.attach(buffer)
  local file = vim.api.nvim_buf_get_name(buffer)
  if file == '' then
    return
  end
  local root = root_of(file)
  clients[root] = clients[root] or start(root)
  if clients[root] then
    vim.lsp.buf_attach_client(buffer, clients[root])
  end
end

-- Runs a command of the server for the request at the cursor, or for the file.
local function run(command, arguments)
  local params = { command = 'yieldtray.' .. command, arguments = { arguments } }
  vim.lsp.buf_request(0, 'workspace/executeCommand', params, function(err)
    if err then
      vim.notify(err.message, vim.log.levels.ERROR)
    end
  end)
end

local function here()
  return { uri = vim.uri_from_bufnr(0), line = vim.api.nvim_win_get_cursor(0)[1] - 1 }
end

function M.send()
  run('send', here())
end

function M.send_with_needs()
  run('sendWithNeeds', here())
end

function M.judge()
  run('judge', here())
end

function M.replay()
  run('replay', { uri = vim.uri_from_bufnr(0) })
end

function M.stop()
  run('stop', {})
end

-- Chooses an environment: the one that is named, else one of all.
function M.environment(name)
  run('environment', { uri = vim.uri_from_bufnr(0), name = name })
end

-- Puts the request at the cursor into a register, as code of a language.
function M.copy_as(target, register)
  local arguments = here()
  arguments.as = target or 'shell'
  local params = { command = 'yieldtray.handOver', arguments = { arguments } }
  vim.lsp.buf_request(0, 'workspace/executeCommand', params, function(err, result)
    if err then
      vim.notify(err.message, vim.log.levels.ERROR)
    elseif result and result.text then
      vim.fn.setreg(register or '"', result.text)
      pcall(vim.fn.setreg, '+', result.text)
    end
  end)
end

-- Takes the shell commands of a register in, as requests at the end of the file.
function M.take_in(register)
  run('takeIn', { uri = vim.uri_from_bufnr(0), text = vim.fn.getreg(register or '"') })
end

local commands = {
  send = M.send,
  needs = M.send_with_needs,
  judge = M.judge,
  replay = M.replay,
  stop = M.stop,
  environment = M.environment,
  copy = M.copy_as,
  take = M.take_in,
}

function M.setup(options)
  settings = vim.tbl_extend('force', defaults, options or {})
  vim.api.nvim_create_autocmd({ 'BufRead', 'BufNewFile' }, {
    pattern = '*.http',
    callback = function()
      vim.bo.filetype = 'yieldtray'
    end,
  })
  vim.api.nvim_create_autocmd('FileType', {
    pattern = 'yieldtray',
    callback = function(event)
      M.attach(event.buf)
    end,
  })
  vim.api.nvim_create_autocmd({ 'BufRead', 'BufNewFile' }, {
    pattern = { 'yieldtray.toml', 'yieldtray.local.toml' },
    callback = function(event)
      M.attach(event.buf)
    end,
  })
  vim.api.nvim_create_user_command('YieldTray', function(command)
    local act = commands[command.fargs[1]]
    if act then
      act(command.fargs[2])
    else
      vim.notify('YieldTray knows: ' .. table.concat(vim.tbl_keys(commands), ', '), vim.log.levels.ERROR)
    end
  end, {
    nargs = '+',
    complete = function(typed)
      return vim.tbl_filter(function(name)
        return vim.startswith(name, typed)
      end, vim.tbl_keys(commands))
    end,
  })
end

return M
