//! `import har`.

use crate::args::{Common, ImportHar};
use crate::error::CommandError;
use crate::files;
use crate::host::HostFacts;
use crate::import::ImportWriter;
use crate::output::{Out, table};
use std::io::Read;
use std::path::Path;
use yieldtray_engine::ExitCode;
use yieldtray_interchange::har::{EntryFilter, ImportedArchive, factor_out_common, read};
use yieldtray_source::escape::escape_line;

/// Makes requests of a recording.
pub(super) fn har(
    common: &Common,
    args: &ImportHar,
    host: &HostFacts,
    out: &mut Out,
) -> Result<ExitCode, CommandError> {
    let mut writer = ImportWriter::open(common, &args.into, host, out)?;
    let choice = EntryFilter {
        only: args.only.clone(),
        methods: args.method.clone(),
        media: args.media.clone(),
        page: args.page.clone(),
        everything: args.everything,
    };
    let archive = open(&writer, &args.file)?;
    let shown = if args.file == Path::new("-") { "standard input".into() } else { args.file.display().to_string() };
    let recording = read(archive, &choice, args.with_checks).map_err(|why| {
        let hint = "export one from a browser's network panel: JSON with `log.entries`";
        CommandError::refused_with(format!("`{shown}` cannot be read as HTTP Archive 1.2: {why}"), hint)
    })?;
    let ImportedArchive { mut drafts, entries, fixed, other, refused } = recording;
    let left = [
        (entries, "entry", "entries"),
        (fixed, "part of a page", "parts of pages"),
        (other, "entry that is not an HTTP request", "entries that are not HTTP requests"),
    ];
    if drafts.is_empty() {
        let [all, fixed, other] = left.map(|(number, one, many)| table::count(number, one, many));
        let message = format!("nothing imported from `{shown}`: of its {all}, {fixed} and {other} were skipped");
        return Err(CommandError::refused_with(
            message,
            "use a wider selection, or include page resources with `--everything`",
        ));
    }
    let (base, new) = (writer.project.base(), writer.is_new(0));
    let head = factor_out_common(&mut drafts, &mut writer.extractor, base.as_deref(), new);
    let name = args.file.file_name().map(|name| name.to_string_lossy()).filter(|name| name != "-");
    let about = name.map(|name| format!("# Imported from the recording {name}.\n\n")).unwrap_or_default();
    writer.begin_with(0, &format!("{about}{head}"));
    drafts.into_iter().for_each(|draft| writer.add(0, draft));
    if !out.settings.quiet && !out.settings.json {
        let counts = left.iter().skip(1).filter(|(number, ..)| *number > 0);
        for (number, one, many) in counts {
            out.say(&out.settings.error_styles.dim(&format!("{} skipped", table::count(*number, one, many))))?;
        }
    }
    for (url, why) in refused {
        // Queries contain keys, and user information contains passwords.
        let url = url.split(['?', '#']).next().unwrap_or_default();
        let url = escape_line(url.rsplit_once('@').map_or(url, |(_, rest)| rest));
        out.say(&format!("{} {url}: {why}", out.settings.error_styles.bad("skipped")))?;
    }
    writer.finish(out)
}

fn open(writer: &ImportWriter, file: &Path) -> Result<Box<dyn Read>, CommandError> {
    if file == Path::new("-") {
        return Ok(Box::new(std::io::stdin()));
    }
    let opened = files::open_regular(&writer.project.path_from_here(file));
    let opened = opened.map_err(|error| CommandError::refused(format!("cannot read `{}`: {error}", file.display())))?;
    Ok(Box::new(opened))
}
