//! Scopes, values in all forms, the tree of the host's objects, and the next page of any of them.

use adzeman_dap::ErrorCode;
use adzeman_dap::extra::{self, ShapeBody, TableArguments, TableBody};
use adzeman_dap::requests::{
    EvaluateArguments, ScopesArguments, ScopesBody, ValueBody, VariablesArguments, VariablesBody,
};
use adzeman_dap::types::{Scope, ValueFormat, Variable};

use super::Session;
use crate::command::{self, Form};
use crate::error::CliError;
use crate::report::{AboutRow, Extent, Report, Row, TreeRow};

/// Rows of a scope or value shown at once.
const MOST_ROWS: usize = 40;
/// Levels of the host's objects that are shown as a tree, those of the objects themselves included.
const TREE_LEVELS: usize = 3;
/// Children of one part of the tree that are shown.
const MOST_CHILDREN: usize = 12;
/// Elements of one list of the tree that are shown: they are alike.
const MOST_ELEMENTS: usize = 1;

/// A list that was not shown to its end.
#[derive(Debug, Clone)]
pub(crate) struct More {
    what: Paged,
    next: usize,
}

#[derive(Debug, Clone)]
enum Paged {
    Inside { title: String, reference: i64, base: Option<u32> },
    Table { expression: String },
    Frames,
}

impl Session<'_> {
    pub(super) fn look_scope(&mut self, title: &str) -> Result<Report, CliError> {
        self.require_stop()?;
        let Some(frame) = self.frame_id() else {
            let why = "that context is not the one that stopped; its globals can be looked at by their names";
            return Err(CliError::Refused(why.to_owned()));
        };
        let scopes = self.scopes(frame)?;
        let Some(scope) = scopes.iter().find(|scope| scope.name == title) else {
            let there: Vec<_> = scopes.iter().map(|scope| scope.name.to_lowercase()).collect();
            return Err(CliError::Refused(format!(
                "there are no {} here; there is {}",
                title.to_lowercase(),
                there.join(", ")
            )));
        };
        let (rows, extent) = self.page_of(title, scope.variables_reference, 0, None)?;
        Ok(Report::Scope { title: title.to_owned(), rows, extent })
    }

    pub(super) fn scopes(&mut self, frame_id: i64) -> Result<Vec<Scope>, CliError> {
        let body: ScopesBody = self.client.request("scopes", &ScopesArguments { frame_id })?;
        Ok(body.scopes)
    }

    /// The first rows behind a reference.
    pub(super) fn rows(&mut self, variables_reference: i64, count: usize) -> Result<(Vec<Row>, Extent), CliError> {
        let body = self.variables(variables_reference, 0, count, None)?;
        let extent = Extent { start: 0, total: body.total, at_least: body.total_is_least == Some(true) };
        Ok((body.variables.into_iter().map(row).collect(), extent))
    }

    fn variables(
        &mut self,
        variables_reference: i64,
        start: usize,
        count: usize,
        base: Option<u32>,
    ) -> Result<VariablesBody, CliError> {
        let (start, count) = (Some(start), Some(count));
        let format = base.map(|base| ValueFormat { base: Some(base), ..ValueFormat::default() });
        self.client
            .request("variables", &VariablesArguments { variables_reference, start, count, format, filter: None })
    }

    /// A page of rows behind a reference; what comes after it is kept for `more`.
    fn page_of(
        &mut self,
        title: &str,
        reference: i64,
        start: usize,
        base: Option<u32>,
    ) -> Result<(Vec<Row>, Extent), CliError> {
        let body = self.variables(reference, start, MOST_ROWS, base)?;
        let extent = Extent { start, total: body.total, at_least: body.total_is_least == Some(true) };
        let rows: Vec<_> = body.variables.into_iter().map(row).collect();
        let title = title.to_owned();
        self.keep_more(Paged::Inside { title, reference, base }, rows.len(), extent);
        Ok((rows, extent))
    }

    fn keep_more(&mut self, what: Paged, shown: usize, extent: Extent) {
        let next = extent.start + shown;
        self.at.more = (shown > 0 && (next < extent.total || extent.at_least)).then_some(More { what, next });
    }

    /// Notes that frames from `next` on were not shown, if there are any.
    pub(super) fn more_frames(&mut self, next: usize) {
        self.at.more = (next < self.at.frames_in_all).then_some(More { what: Paged::Frames, next });
    }

    /// The next page of what was listed last.
    pub(super) fn more(&mut self) -> Result<Report, CliError> {
        let Some(More { what, next }) = self.at.more.take() else {
            return Err(CliError::Refused("there is no more of what was listed last".to_owned()));
        };
        match what {
            Paged::Inside { title, reference, base } => {
                let (rows, extent) = self.page_of(&title, reference, next, base)?;
                Ok(Report::Scope { title, rows, extent })
            }
            Paged::Table { expression } => self.look_table(expression, next),
            Paged::Frames => self.look_stack(next),
        }
    }

    pub(super) fn look_expression(&mut self, expression: String, form: Form) -> Result<Report, CliError> {
        match form {
            Form::Table => self.look_table(expression, 0),
            Form::Shape => self.look_shape(expression),
            Form::Text => self.look_text(expression, "clipboard"),
            Form::Bytes => self.look_text(expression, "bytes"),
            Form::Plain => self.look_value(expression, None),
            Form::Base(base) => self.look_value(expression, Some(base)),
        }
    }

    /// What evaluates an expression where the person looks from.
    pub(super) fn evaluation(&self, expression: &str, context: &str) -> Result<EvaluateArguments, CliError> {
        // Who may only look has names and fields looked up, and runs nothing.
        let context = if self.role.controls { context } else { "hover" };
        Ok(EvaluateArguments {
            expression: expression.to_owned(),
            frame_id: self.frame_id(),
            context: Some(context.to_owned()),
            thread_id: Some(self.current_context()?),
            format: None,
        })
    }

    fn look_value(&mut self, expression: String, base: Option<u32>) -> Result<Report, CliError> {
        let format = base.map(|base| ValueFormat { base: Some(base), ..ValueFormat::default() });
        let arguments = EvaluateArguments { format, ..self.evaluation(&expression, "expression")? };
        let body: ValueBody = self.client.request("evaluate", &arguments).map_err(|why| or_let(&expression, why))?;
        self.show_value(expression, body, base)
    }

    pub(super) fn show_value(
        &mut self,
        expression: String,
        body: ValueBody,
        base: Option<u32>,
    ) -> Result<Report, CliError> {
        let (inside, extent) = match body.variables_reference {
            0 => (Vec::new(), Extent::default()),
            reference => self.page_of(&expression, reference, 0, base)?,
        };
        let (value, type_name) = (body.result.unwrap_or_default(), body.type_name.unwrap_or_default());
        Ok(Report::Value { expression, value, type_name, before: body.before, inside, extent })
    }

    fn look_table(&mut self, expression: String, start: usize) -> Result<Report, CliError> {
        let arguments = TableArguments {
            expression: expression.clone(),
            frame_id: self.frame_id(),
            thread_id: Some(self.current_context()?),
            start: Some(start),
            count: Some(MOST_ROWS),
        };
        let body: TableBody = self.client.request(extra::TABLE, &arguments)?;
        let extent = Extent { start, total: body.total, at_least: false };
        self.keep_more(Paged::Table { expression: expression.clone() }, body.rows.len(), extent);
        Ok(Report::Table { expression, columns: body.columns, rows: body.rows, extent })
    }

    fn look_shape(&mut self, expression: String) -> Result<Report, CliError> {
        let arguments = self.evaluation(&expression, "repl")?;
        let body: ShapeBody = self.client.request(extra::SHAPE, &arguments)?;
        Ok(Report::Shape { expression, rows: body.rows })
    }

    fn look_text(&mut self, expression: String, context: &str) -> Result<Report, CliError> {
        let arguments = self.evaluation(&expression, context)?;
        let body: ValueBody = self.client.request("evaluate", &arguments).map_err(|why| or_let(&expression, why))?;
        Ok(Report::Text { expression, text: body.result.unwrap_or_default(), bytes_in_all: body.bytes_in_all })
    }

    /// All objects of the host, as a tree. Of parts that have the same fields, the first is opened.
    pub(super) fn look_host(&mut self) -> Result<Report, CliError> {
        let arguments = self.evaluation("host", "variables")?;
        let body: ValueBody = self.client.request("evaluate", &arguments)?;
        let mut rows = Vec::new();
        if body.variables_reference > 0 {
            let objects = self.variables(body.variables_reference, 0, MOST_ROWS, None)?;
            self.grow(objects, 0, false, &mut rows)?;
        }
        Ok(Report::Tree { rows })
    }

    /// `read_only` is whether what is grown cannot be changed as a whole.
    fn grow(
        &mut self,
        body: VariablesBody,
        depth: usize,
        read_only: bool,
        rows: &mut Vec<TreeRow>,
    ) -> Result<(), CliError> {
        let more = body.total.saturating_sub(body.variables.len());
        let mut opened: Vec<Vec<String>> = Vec::new();
        for variable in body.variables {
            let most = if variable.indexed_variables.is_some() { MOST_ELEMENTS } else { MOST_CHILDREN };
            let may_open = variable.variables_reference > 0 && depth + 1 < TREE_LEVELS;
            let inside = may_open.then(|| self.variables(variable.variables_reference, 0, most, None)).transpose()?;
            let fields = inside.as_ref().map(fields_of).filter(|_| variable.indexed_variables.is_none());
            let inside = inside.filter(|_| fields.as_ref().is_none_or(|fields| !opened.contains(fields)));
            opened.extend(fields);
            let mut row = row(variable);
            // It is said once, of the whole.
            let is_read_only = row.about.read_only;
            row.about.read_only &= !read_only;
            rows.push(TreeRow { depth, is_leaf: inside.is_none(), row });
            if let Some(inside) = inside {
                self.grow(inside, depth + 1, is_read_only, rows)?;
            }
        }
        if more > 0 {
            let rest = Row { name: "…".to_owned(), value: format!("{more} more"), ..Row::default() };
            rows.push(TreeRow { depth, is_leaf: true, row: rest });
        }
        Ok(())
    }
}

fn fields_of(body: &VariablesBody) -> Vec<String> {
    body.variables.iter().map(|held| held.name.clone()).collect()
}

pub(super) fn row(variable: Variable) -> Row {
    let hint = variable.presentation_hint.unwrap_or_default();
    let attributes = hint.attributes.unwrap_or_default();
    let has = |name: &str| attributes.iter().any(|attribute| attribute == name);
    Row {
        name: variable.name,
        value: variable.value,
        type_name: variable.type_name.unwrap_or_default(),
        shadowed: has("shadowed"),
        before: variable.before,
        computed_by: variable.evaluate_name.filter(|_| hint.lazy == Some(true)),
        about: AboutRow {
            doc: variable.doc,
            unit: variable.unit,
            belongs_to: variable.belongs_to.unwrap_or_default(),
            read_only: has("readOnly"),
        },
    }
}

/// Says how a statement is given, where somebody looks at one.
fn or_let(text: &str, why: CliError) -> CliError {
    match why {
        CliError::RefusedByHost { why, code: ErrorCode::Syntax } if why.contains("is a statement") => {
            let how = match command::is_assignment(text) {
                true => format!("'let {text}' assigns"),
                false => format!("'run {text}' runs it"),
            };
            CliError::Refused(format!("{why}; {how}"))
        }
        other => other,
    }
}
