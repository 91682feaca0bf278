//! `api show`: an operation, a type or a field, with all that the description says of it.

use super::{contract, damaged, opened, print_title, requests, title};
use crate::args::{ApiShow, Common};
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::output::Out;
use crate::output::table::{self, Cell};
use crate::styles::Styles;
use serde_json::{Value, json};
use std::io::{self, Write};
use std::sync::Arc;
use yieldtray_description::{
    Api, FieldRecord, Found, Matched, Operation, Parameter, SchemaMember, TypeRecord, sample_document,
};
use yieldtray_engine::ExitCode;
use yieldtray_source::escape::{escape_line, escape_terminal};

/// Members of a body that are listed.
const MAX_MEMBERS: usize = 60;

/// Shows what a place names.
pub(super) fn show(common: &Common, args: &ApiShow, host: &HostFacts, out: &mut Out) -> Result<ExitCode, CommandError> {
    let (mut project, opened) = opened(common, args.which.api.as_deref(), host, out)?;
    let title = title(&opened, out);
    let (contract, _) = contract(&project, opened);
    let api = &Arc::clone(contract.api());
    let place = args.place.join(" ");
    let Some(found) = api.find(&place).map_err(damaged)? else {
        let (method, path) = place.split_once(' ').unwrap_or_default();
        let hint = match (api.matched(method, path).map_err(damaged)?, api.similar(&place).map_err(damaged)?) {
            (Matched::OtherMethods(path, methods), _) => format!("`{path}` has {}", methods.join(", ")),
            (_, Some(meant)) => format!("did you mean `{meant}`?"),
            (_, None) => "see `yieldtray api tree` for what there is".to_owned(),
        };
        return Err(CommandError::refused_with(format!("the API has no operation, type or schema `{place}`"), hint));
    };
    if !out.settings.json {
        print_title(&title, out)?;
    }
    match found {
        Found::Operation(operation) => {
            let mut covered = requests::by_operation(&mut project, &contract);
            let used_by = covered.remove(&operation.summary.title()).unwrap_or_default();
            let content = operation.body.as_ref().and_then(|body| body.preferred_content());
            let example = content.map(|content| api.example(content, "body")).transpose().map_err(damaged)?.flatten();
            if out.settings.json {
                let mut document = json!(*operation);
                (document["requests"], document["body_example"]) = (json!(used_by), json!(example));
                writeln!(out.result(), "{document}")?;
            } else {
                OperationView { api, styles: out.settings.styles, operation: &operation, used_by, example }
                    .write(out)?;
            }
        }
        Found::Type(record) => {
            if out.settings.json {
                writeln!(out.result(), "{}", json!(record))?;
            } else {
                write_type(&record, out)?;
            }
        }
        Found::Field(owner, field) => write_field(api, &owner, &field, out)?,
        Found::Definition(name, schema) => {
            if out.settings.json {
                writeln!(out.result(), "{}", json!({ "name": name, "schema": schema }))?;
            } else {
                let members = api.members(&schema);
                let styles = out.settings.styles;
                writeln!(out.result(), "{}", styles.strong(&escape_line(&name)))?;
                write_members(&members, styles, out)?;
                if let Some(sample) = api.sample(&schema, &name).map_err(damaged)? {
                    write_example("Example", &sample, out)?;
                }
            }
        }
    }
    Ok(ExitCode::Success)
}

struct OperationView<'a> {
    api: &'a Api,
    styles: Styles,
    operation: &'a Operation,
    used_by: Vec<String>,
    example: Option<Value>,
}

impl OperationView<'_> {
    fn write(&self, out: &mut Out) -> io::Result<()> {
        let (operation, styles) = (self.operation, self.styles);
        let summary = &operation.summary;
        let about = summary.summary.as_deref().unwrap_or_default();
        writeln!(out.result(), "{}  {}", styles.strong(&escape_line(&summary.title())), escape_line(about))?;
        let mut facts = Vec::new();
        facts.extend(summary.id.as_ref().map(|id| format!("id {id}")));
        facts.extend((!operation.tags.is_empty()).then(|| format!("tags {}", operation.tags.join(", "))));
        if !facts.is_empty() {
            writeln!(out.result(), "{}", styles.dim(&escape_line(&facts.join(" · "))))?;
        }
        if summary.deprecated {
            writeln!(out.result(), "{}", styles.warn("deprecated"))?;
        }
        if let Some(text) = &operation.description {
            writeln!(out.result(), "\n{}", escape_terminal(text))?;
        }
        if !operation.parameters.is_empty() {
            writeln!(out.result(), "\nParameters")?;
            let rows: Vec<Vec<Cell>> = operation.parameters.iter().map(|own| self.parameter(own)).collect();
            out.table(&rows)?;
        }
        if let Some(body) = &operation.body {
            for content in &body.content {
                let required = if body.required { "" } else { ", optional" };
                writeln!(
                    out.result(),
                    "\nBody  {}",
                    styles.dim(&escape_line(&format!("{}{required}", content.media_type)))
                )?;
                if let Some(schema) = &content.schema {
                    write_members(&self.api.members(schema), styles, out)?;
                }
            }
        }
        if let Some(example) = &self.example {
            write_example("Example", example, out)?;
        }
        writeln!(out.result(), "\nResponses")?;
        let mut rows = Vec::new();
        for response in &operation.responses {
            let media: Vec<&str> = response.content.iter().map(|content| content.media_type.as_str()).collect();
            let status = escape_line(&response.status).into_owned();
            let painted = match status.starts_with('2') {
                true => styles.good(&status),
                false => styles.warn(&status),
            };
            rows.push(vec![
                Cell::new("  "),
                Cell::new(status).painted(painted),
                Cell::new(escape_line(&media.join(", ")).into_owned()),
                Cell::new(escape_line(response.description.as_deref().unwrap_or_default()).into_owned()).shrinkable(),
            ]);
        }
        out.table(&rows)?;
        if let Some(schema) = operation.success().and_then(|response| response.content.first()?.schema.as_ref()) {
            let status =
                operation.success().map_or_else(String::new, |response| escape_line(&response.status).into_owned());
            writeln!(out.result(), "\nBody of {status}")?;
            write_members(&self.api.members(schema), styles, out)?;
        }
        writeln!(out.result())?;
        if self.used_by.is_empty() {
            let hint = format!("no request has it; send one: yieldtray send '{}' --edit", summary.title());
            return writeln!(out.result(), "{}", styles.dim(&escape_line(&hint)));
        }
        writeln!(out.result(), "Used by")?;
        self.used_by.iter().try_for_each(|request| writeln!(out.result(), "    {}", escape_line(request)))
    }

    fn parameter(&self, parameter: &Parameter) -> Vec<Cell> {
        let schema = parameter.schema.as_ref();
        let members = schema.map(|schema| self.api.describe_schema(schema)).unwrap_or_default();
        let mut about = parameter.description.clone().unwrap_or_default();
        let place = escape_line(&parameter.place).into_owned();
        if parameter.deprecated {
            about.insert_str(0, "deprecated. ");
        }
        vec![
            Cell::new("  "),
            Cell::new(escape_line(&parameter.name).into_owned()),
            Cell::new(place.clone()).painted(self.styles.dim(&place)),
            Cell::new(if parameter.required { "required" } else { "" }),
            Cell::new(escape_line(&members).into_owned()),
            Cell::new(escape_line(about.lines().next().unwrap_or_default()).into_owned()).shrinkable(),
        ]
    }
}

fn write_members(members: &[SchemaMember], styles: Styles, out: &mut Out) -> io::Result<()> {
    let rows: Vec<Vec<Cell>> = members
        .iter()
        .take(MAX_MEMBERS)
        .map(|member| {
            let choices = match member.choices.as_slice() {
                [] => String::new(),
                choices => format!(": {}", choices.iter().take(8).cloned().collect::<Vec<_>>().join(", ")),
            };
            let about = member.description.as_deref().and_then(|text| text.lines().next()).unwrap_or_default();
            vec![
                Cell::new("  "),
                Cell::new(escape_line(&member.path).into_owned()),
                Cell::new(if member.required { "required" } else { "" }),
                Cell::new(escape_line(&format!("{}{choices}", member.type_words)).into_owned()).shrinkable(),
                Cell::new(escape_line(about).into_owned()).painted(styles.dim(&escape_line(about))).shrinkable(),
            ]
        })
        .collect();
    out.table(&rows)?;
    if members.len() > MAX_MEMBERS {
        let more = table::count(members.len() - MAX_MEMBERS, "more member", "more members");
        writeln!(out.result(), "  {}", styles.dim(&format!("{more}; use --json for all")))?;
    }
    Ok(())
}

fn write_example(title: &str, example: &Value, out: &mut Out) -> io::Result<()> {
    let text = match example {
        Value::String(text) => text.clone(),
        other => serde_json::to_string_pretty(other).unwrap_or_default(),
    };
    writeln!(out.result(), "\n{title}")?;
    escape_terminal(&text).lines().try_for_each(|line| writeln!(out.result(), "  {line}"))
}

fn write_type(record: &TypeRecord, out: &mut Out) -> io::Result<()> {
    let styles = out.settings.styles;
    let interfaces = match record.interfaces.as_slice() {
        [] => String::new(),
        names => format!(" implements {}", names.join(" & ")),
    };
    writeln!(out.result(), "{} {}{interfaces}", record.kind, styles.strong(&record.name))?;
    if let Some(text) = &record.description {
        writeln!(out.result(), "{}", escape_terminal(text))?;
    }
    writeln!(out.result())?;
    let about = |text: Option<&str>, deprecated: Option<&str>| {
        let text = text.and_then(|text| text.lines().next()).unwrap_or_default();
        let text = deprecated.map_or(text.to_owned(), |why| format!("deprecated: {why}"));
        Cell::new(escape_line(&text).into_owned()).painted(styles.dim(&escape_line(&text))).shrinkable()
    };
    let mut rows = Vec::new();
    for field in &record.fields {
        rows.push(vec![
            Cell::new("  "),
            Cell::new(format!("{}{}", field.name, arguments(field))),
            Cell::new(field.type_name.clone()),
            about(field.description.as_deref(), field.deprecated.as_deref()),
        ]);
    }
    for value in &record.values {
        rows.push(vec![
            Cell::new("  "),
            Cell::new(value.name.clone()),
            about(value.description.as_deref(), value.deprecated.as_deref()),
        ]);
    }
    rows.extend(record.possible_types.iter().map(|name| vec![Cell::new("  "), Cell::new(name.clone())]));
    out.table(&rows)
}

fn arguments(field: &FieldRecord) -> String {
    if field.arguments.is_empty() {
        return String::new();
    }
    let arguments = field.arguments.iter().map(|argument| {
        let default = argument.default.as_ref().map(|default| format!(" = {default}")).unwrap_or_default();
        format!("{}: {}{default}", argument.name, argument.type_name)
    });
    format!("({})", arguments.collect::<Vec<_>>().join(", "))
}

fn write_field(api: &Api, owner: &str, field: &FieldRecord, out: &mut Out) -> io::Result<()> {
    let roots = api.level(None).ok().flatten().unwrap_or_default();
    let root = roots.places.iter().find(|place| place.name == owner).map_or("object", |place| place.kind.as_str());
    let is_root = matches!(root, "query" | "mutation" | "subscription");
    let sample = is_root.then(|| sample_document(root, field, &|name| api.type_named(name).ok().flatten()));
    if out.settings.json {
        let mut document = json!(field);
        document["owner"] = json!(owner);
        if let Some((document_text, variables)) = &sample {
            document["document"] = json!(document_text);
            document["variables"] =
                variables.iter().map(|(name, value)| json!({ "name": name, "value": value })).collect();
        }
        return writeln!(out.result(), "{document}");
    }
    let styles = out.settings.styles;
    writeln!(out.result(), "{}.{}: {}", owner, styles.strong(&field.name), field.type_name)?;
    if let Some(why) = &field.deprecated {
        writeln!(out.result(), "{}", styles.warn(&escape_line(&format!("deprecated: {why}"))))?;
    }
    if let Some(text) = &field.description {
        writeln!(out.result(), "{}", escape_terminal(text))?;
    }
    if !field.arguments.is_empty() {
        writeln!(out.result(), "\nArguments")?;
        let rows = field.arguments.iter().map(|argument| {
            let default = argument.default.as_ref().map(|default| format!("default {default}")).unwrap_or_default();
            vec![
                Cell::new("  "),
                Cell::new(argument.name.clone()),
                Cell::new(argument.type_name.clone()),
                Cell::new(default),
                Cell::new(escape_line(argument.description.as_deref().unwrap_or_default()).into_owned()).shrinkable(),
            ]
        });
        let rows: Vec<Vec<Cell>> = rows.collect();
        out.table(&rows)?;
    }
    if let Some((text, variables)) = sample {
        writeln!(out.result(), "\nRequest")?;
        writeln!(out.result(), "  % graphql")?;
        for (name, value) in &variables {
            writeln!(out.result(), "  % variable {name} = {value}")?;
        }
        writeln!(out.result(), "  POST /graphql\n")?;
        text.lines().try_for_each(|line| writeln!(out.result(), "  {line}"))?;
    }
    Ok(())
}
