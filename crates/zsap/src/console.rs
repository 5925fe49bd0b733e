//! Where the output goes: text or JSON on standard output, messages on standard error.

use std::collections::HashSet;
use std::fs::OpenOptions;
use std::io::{self, IsTerminal, Write};
use std::sync::{Arc, Mutex, PoisonError};

use anstyle::{AnsiColor, Style};
use serde::Serialize;
use serde_json::Value;
use zestful_sapling::ops::Plan;
use zestful_sapling::progress::Reading;

use crate::args::{Color, Common};
use crate::report::events::{Advanced, Line, Told};
use crate::report::json::{ErrorDocument, ErrorTold};
use crate::report::{table, text};
use crate::settings;

pub(crate) struct Console {
    common: Common,
    /// What the plan of a change had to say beforehand; its answer says it again to scripts.
    warnings: Mutex<Vec<String>>,
    /// What somebody has read already.
    told: Arc<Mutex<HashSet<String>>>,
    /// Whether somebody reads the one document at the end and nothing on the way there.
    mute: bool,
}

const WARNING: Style = AnsiColor::Yellow.on_default().bold();
const ERROR: Style = AnsiColor::Red.on_default().bold();
const STRONG: Style = Style::new().bold();
const FAINT: Style = Style::new().dimmed();

impl Console {
    pub(crate) fn new(common: &Common) -> Self {
        match common.color.or(settings::current().settings.color).unwrap_or(Color::Auto) {
            Color::Auto => anstream::ColorChoice::Auto,
            Color::Always => anstream::ColorChoice::Always,
            Color::Never => anstream::ColorChoice::Never,
        }
        .write_global();
        Self { common: common.clone(), warnings: Mutex::default(), told: Arc::default(), mute: false }
    }

    /// For the commands that the demo runs: their text, and no JSON document of their own.
    pub(crate) fn for_part_of_demo(&self) -> Self {
        let quiet = self.common.quiet || self.common.json;
        let common = Common { json: false, plan: false, quiet, ..self.common.clone() };
        Self { common, warnings: Mutex::default(), told: self.told.clone(), mute: self.common.json }
    }

    pub(crate) fn common(&self) -> &Common {
        &self.common
    }

    pub(crate) fn json(&self) -> bool {
        self.common.json
    }

    pub(crate) fn size(&self, bytes: u64) -> String {
        text::size(bytes, self.common.bytes)
    }

    /// Lines on standard output, unless JSON or quiet was asked for.
    pub(crate) fn say<S: AsRef<str>>(&self, lines: impl IntoIterator<Item = S>) -> io::Result<()> {
        if self.common.json || self.common.quiet {
            return Ok(());
        }
        let mut all = String::new();
        for line in lines {
            all.push_str(line.as_ref());
            all.push('\n');
        }
        self.log(all.trim_end());
        let mut out = anstream::stdout().lock();
        out.write_all(all.as_bytes())?;
        out.flush()
    }

    /// The one JSON document, an object.
    pub(crate) fn document(&self, value: &impl Serialize) -> io::Result<()> {
        let text = serde_json::to_string_pretty(&versioned(value, self.warnings())?).map_err(io::Error::other)?;
        self.log(&text);
        let mut out = io::stdout().lock();
        writeln!(out, "{text}")?;
        out.flush()
    }

    /// One line of many: a JSON object, as things happen.
    pub(crate) fn line(&self, told: &Told) -> io::Result<()> {
        let line = versioned(&Line { time: jiff::Timestamp::now(), told }, Vec::new())?;
        let text = serde_json::to_string(&line).map_err(io::Error::other)?;
        self.log(&text);
        let mut out = io::stdout().lock();
        writeln!(out, "{text}")?;
        out.flush()
    }

    /// For the log file alone.
    pub(crate) fn note(&self, message: &str) {
        self.log(&text::safe(message));
    }

    /// The one JSON document of a command that failed, on standard error, with what its plan had to say.
    pub(crate) fn error_document(&self, error: ErrorTold) {
        self.log(&print_error(error, self.warnings()));
    }

    /// Text for people, or the value for scripts.
    pub(crate) fn answer<S: AsRef<str>>(
        &self,
        value: &impl Serialize,
        lines: impl IntoIterator<Item = S>,
    ) -> io::Result<()> {
        if !self.common.json {
            return self.say(lines);
        }
        self.document(value)
    }

    /// A warning for people; a script reads it in the document.
    pub(crate) fn warn(&self, message: &str) {
        match self.common.json || self.mute {
            true => self.log(&format!("warning: {}", text::safe(message))),
            false => self.message(WARNING, "warning", message),
        }
    }

    pub(crate) fn error(&self, message: &str) {
        self.message(ERROR, "error", message);
    }

    /// A line on what may be typed after an error.
    pub(crate) fn hint(&self, line: &str) {
        self.log(line);
        _ = writeln!(anstream::stderr(), "{line}");
    }

    fn message(&self, style: Style, word: &str, message: &str) {
        self.log(&format!("{word}: {}", text::safe(message)));
        // With standard error gone there is nobody left to tell.
        let text = text::wrapped(&format!("{word}: {}", text::message(message)), "  ");
        let text = text.strip_prefix(word).unwrap_or(&text);
        _ = writeln!(anstream::stderr(), "{style}{word}{style:#}{text}");
    }

    /// Emphasis that the output loses where it cannot be shown.
    pub(crate) fn strong(&self, text: &str) -> String {
        format!("{STRONG}{text}{STRONG:#}")
    }

    /// What stands back behind the rest.
    pub(crate) fn faint(&self, text: &str) -> String {
        format!("{FAINT}{text}{FAINT:#}")
    }

    /// A mark for trouble; the word beside it carries the meaning.
    pub(crate) fn alarming(&self, text: &str) -> String {
        format!("{ERROR}{text}{ERROR:#}")
    }

    /// A line whose marks become colour.
    pub(crate) fn marked(&self, text: &str) -> String {
        let (alarm, faint) = (ERROR.render().to_string(), FAINT.render().to_string());
        table::with_styles(text, &alarm, &faint, &anstyle::Reset.render().to_string())
    }

    /// Shows a plan and its warnings; `true` when that is all that was asked for.
    pub(crate) fn show_plan(&self, plan: &Plan) -> io::Result<bool> {
        if !self.common.plan {
            self.tell_warnings(plan);
            return Ok(false);
        }
        self.answer(plan, self.plan_lines(plan))?;
        Ok(true)
    }

    /// What a plan has to say beforehand.
    pub(crate) fn tell_warnings(&self, plan: &Plan) {
        let mut warnings = self.warnings.lock().unwrap_or_else(PoisonError::into_inner);
        for warning in &plan.warnings {
            // Of several paths, and of each step of the demo, the same may have to be said.
            if self.told.lock().unwrap_or_else(PoisonError::into_inner).insert(warning.clone()) {
                self.warn(warning);
            }
            if !warnings.contains(warning) {
                warnings.push(warning.clone());
            }
        }
    }

    /// Files of settings that do not go, and why: without them a command does what it does where nothing is set.
    pub(crate) fn tell_settings_left_out(&self) {
        for source in &settings::current().sources {
            if let Err(why) = &source.read {
                let message = format!("the settings in {} are left out: {why}", source.path.display());
                if self.told.lock().unwrap_or_else(PoisonError::into_inner).insert(message.clone()) {
                    self.warn(&message);
                }
                self.warnings.lock().unwrap_or_else(PoisonError::into_inner).push(message);
            }
        }
    }

    /// What was said beforehand.
    fn warnings(&self) -> Vec<String> {
        self.warnings.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// A plan, for people.
    pub(crate) fn plan_lines(&self, plan: &Plan) -> Vec<String> {
        let mut lines = vec![format!("plan for {}: nothing was changed", self.strong(plan.operation))];
        let steps = plan.steps.iter().enumerate();
        lines.extend(steps.map(|(n, step)| text::wrapped(&format!("  {}. {}", n + 1, text::message(step)), "     ")));
        lines.push(format!(
            "  reads at most {}, writes at most {}, needs {} of free space at the worst moment",
            self.size(plan.bytes_read),
            self.size(plan.bytes_written),
            self.size(plan.peak_extra_space)
        ));
        let warnings = plan.warnings.iter().map(|warning| format!("  warning: {}", text::message(warning)));
        lines.extend(warnings.map(|warning| text::wrapped(&warning, "    ")));
        lines
    }

    /// Asks whether to go on; without a terminal nobody is there to say so.
    pub(crate) fn confirms(&self, what: &str) -> bool {
        if self.common.json || self.common.plan || !io::stdin().is_terminal() || !io::stderr().is_terminal() {
            return false;
        }
        let question = text::wrapped(&format!("{}. Go on? Type yes: ", text::safe(what)), "  ");
        let mut answer = String::new();
        _ = write!(anstream::stderr(), "{question}");
        io::stdin().read_line(&mut answer).is_ok() && answer.trim() == "yes"
    }

    /// How far long work is, for a script that watches.
    pub(crate) fn advanced(&self, reading: Reading) {
        let line = versioned(&Advanced::from(reading), Vec::new());
        // With standard error gone there is nobody left to tell.
        _ = line.and_then(|line| writeln!(io::stderr(), "{line}"));
    }

    /// Whether a script watches long work.
    pub(crate) fn tells_progress(&self) -> bool {
        self.common.json && self.common.progress
    }

    pub(crate) fn shows_bars(&self) -> bool {
        !self.common.quiet && io::stderr().is_terminal()
    }

    fn log(&self, message: &str) {
        let Some(file) = &self.common.log_file else { return };
        let now = jiff::Timestamp::now();
        let write = || {
            let mut log = OpenOptions::new().create(true).append(true).open(file)?;
            message.lines().try_for_each(|line| writeln!(log, "{now:.0} {}", anstream::adapter::strip_str(line)))
        };
        if let Err(error) = write() {
            _ = writeln!(anstream::stderr(), "warning: cannot write to the log file {}: {error}", file.display());
        }
    }
}

/// Prints why a command cannot be run that could not be read.
pub(crate) fn print_message(message: &str) {
    _ = writeln!(anstream::stderr(), "{ERROR}error{ERROR:#}: {}", text::safe_lines(message));
}

/// Prints the document of a command that failed.
pub(crate) fn print_error(error: ErrorTold, warnings: Vec<String>) -> String {
    let document = versioned(&ErrorDocument { error, warnings }, Vec::new());
    let text = document.map_or_else(|error| error.to_string(), |document| document.to_string());
    // With standard error gone there is nobody left to tell; the exit status still does.
    _ = writeln!(io::stderr(), "{text}");
    text
}

/// The form of all documents; it rises when a name or a type changes.
pub(crate) const SCHEMA_VERSION: u32 = 1;

/// What an answer is in the end: an object with the form's version first, and what the plan had to say.
fn versioned(value: &impl Serialize, warnings: Vec<String>) -> io::Result<Value> {
    let mut document = serde_json::Map::new();
    document.insert("schema_version".to_owned(), SCHEMA_VERSION.into());
    match serde_json::to_value(value).map_err(io::Error::other)? {
        Value::Object(fields) => document.extend(fields),
        other => return Err(io::Error::other(format!("an answer is no object: {other}"))),
    }
    document.entry("warnings").or_insert_with(|| warnings.into());
    Ok(document.into())
}
