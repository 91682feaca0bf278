-- Drives a real Neovim through a session, and writes down what a person would see.

local program, answer_file = vim.env.YIELDTRAY_PROGRAM, vim.env.SEEN
local seen = {}

local function wait(what, ready)
  if not vim.wait(30000, ready, 20) then
    error('waited in vain for ' .. what)
  end
end

local function main()
  require('yieldtray').setup({ cmd = { program, 'lsp' } })
  vim.cmd('edit intake.http')
  seen.filetype = vim.bo.filetype
  wait('the server', function()
    return #vim.lsp.buf_get_clients(0) > 0
  end)
  wait('diagnostics', function()
    return #vim.diagnostic.get(0) > 0
  end)
  seen.diagnostics = vim.tbl_map(function(found)
    return found.lnum .. ' ' .. found.message
  end, vim.diagnostic.get(0))

  -- Mend it by its quick fix, as a person would choose it.
  local params = vim.lsp.util.make_range_params()
  local found = vim.diagnostic.get(0)[1]
  local at = { line = found.lnum, character = found.col }
  params.range = { start = at, ['end'] = at }
  params.context = { diagnostics = {} }
  local answers = vim.lsp.buf_request_sync(0, 'textDocument/codeAction', params, 10000)
  for _, answer in pairs(answers) do
    vim.lsp.util.apply_workspace_edit(answer.result[1].edit, 'utf-16')
  end
  wait('no diagnostics', function()
    return #vim.diagnostic.get(0) == 0
  end)

  -- The lens above the first cell.
  vim.lsp.codelens.refresh()
  wait('lenses', function()
    return #vim.lsp.codelens.get(0) > 0
  end)
  seen.lenses = vim.tbl_map(function(lens)
    return lens.command.title
  end, vim.lsp.codelens.get(0))
  local send
  for _, lens in ipairs(vim.lsp.codelens.get(0)) do
    if lens.command.title == 'Send' then
      send = lens.command
    end
  end
  vim.lsp.buf_request(0, 'workspace/executeCommand', send)
  local sheet
  wait('the answer', function()
    for _, window in ipairs(vim.api.nvim_list_wins()) do
      if vim.w[window].yieldtray then
        sheet = vim.api.nvim_win_get_buf(window)
      end
    end
    return sheet ~= nil
  end)
  seen.sheet = vim.api.nvim_buf_get_lines(sheet, 0, -1, false)
  seen.writable = vim.bo[sheet].modifiable
  seen.windows = #vim.api.nvim_list_wins()

  -- Another name for a value, wherever it stands.
  vim.fn.search('{{grower')
  vim.cmd('normal! 2l')
  vim.lsp.buf.rename('farm')
  wait('the new name', function()
    return vim.fn.search('{{farm', 'nw') > 0
  end)
  seen.text = vim.api.nvim_buf_get_lines(0, 0, -1, false)
  local config = vim.fn.bufnr('yieldtray.toml')
  seen.config = config > 0 and vim.api.nvim_buf_get_lines(config, 0, -1, false) or {}
end

local well, why = pcall(main)
seen.error = not well and tostring(why) or nil
vim.fn.writefile({ vim.fn.json_encode(seen) }, answer_file)
vim.cmd('qall!')
