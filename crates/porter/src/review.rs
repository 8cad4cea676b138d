//! What waits for a person before it goes, and what became of it.

use crate::clock;
use crate::config::House;
use crate::error::{Error, Result};
use crate::item::{FIELDS, Fields, Waits};
use crate::store::{Delivery, Job, JobId, Output, OutputEnd, Store};
use media::show;
use schemars::JsonSchema;
use serde::Serialize;

/// An output with an item.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Reviewed {
    /// The job's number and, where it has several, the output's: `12` or `12.2`.
    pub id: String,
    #[serde(skip)]
    pub job: JobId,
    #[serde(skip)]
    pub output: u32,
    pub watch: String,
    pub path: String,
    pub preset: String,
    /// Where it is: "being made", "waits for fields", "waits for release", "scheduled", "on its way", "published",
    /// "refused" or "failed".
    pub state: &'static str,
    /// More of it: fields that are missing, the time, the reason.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
    pub fields: Fields,
    /// Who released or refused it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    pub places: Vec<String>,
    /// Where it can be seen, as the place tells.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub addresses: Vec<String>,
}

/// The items of a house, the latest first; `open`: only those that are not over.
pub fn items(house: &House, open: bool, most: u32) -> Result<Vec<Reviewed>> {
    let Some(store) = Store::look(&house.store_file())? else { return Ok(Vec::new()) };
    let mut out = Vec::new();
    for job in store.read(|v| v.jobs_with_items(open, most))? {
        let (Some(j), outputs, deliveries) =
            store.read(|v| Ok((v.job(job)?, v.outputs(job)?, v.deliveries(job)?)))?
        else {
            continue;
        };
        let with: Vec<&Output> = outputs.iter().filter(|o| o.item.is_some()).collect();
        let several = with.len() > 1;
        out.extend(with.into_iter().filter_map(|o| one(&j, o, &deliveries, several)));
    }
    Ok(out)
}

fn one(j: &Job, o: &Output, deliveries: &[Delivery], several: bool) -> Option<Reviewed> {
    let item = o.item.as_ref()?;
    let own: Vec<&Delivery> = deliveries.iter().filter(|d| d.output == o.number).collect();
    let all_there = !own.is_empty() && own.iter().all(|d| d.delivered.is_some());
    let waits = item.waits(clock::now(), false);
    let (state, detail) = match (&o.end, &item.said) {
        _ if all_there && matches!(waits, Some(Waits::Until(_))) => ("scheduled", waits.map(|w| w.words())),
        _ if all_there => ("published", None),
        (_, Some(said)) if !said.yes => ("refused", said.why.clone()),
        (OutputEnd::NotMade { why, .. }, _) => ("failed", Some(why.clone())),
        _ if j.ended.is_some() => ("failed", j.reason.clone()),
        (OutputEnd::Open, _) => ("being made", None),
        _ => match waits {
            Some(Waits::Fields(missing)) => ("waits for fields", Some(missing.join(", "))),
            Some(Waits::Release) => ("waits for release", None),
            Some(w @ Waits::Until(_)) => ("scheduled", Some(w.words())),
            None => ("on its way", None),
        },
    };
    let id = if several { format!("{}.{}", j.id, o.number + 1) } else { j.id.to_string() };
    Some(Reviewed {
        id,
        job: j.id,
        output: o.number,
        watch: j.watch.clone(),
        path: show::path(&j.path),
        preset: o.preset.clone(),
        state,
        detail: detail.map(|d| show::text(&d)),
        fields: item.fields.clone(),
        by: item.said.as_ref().map(|s| s.by.clone()),
        places: own.iter().map(|d| d.place.clone()).collect(),
        addresses: own.iter().filter_map(|d| d.address.clone()).collect(),
    })
}

/// The output that an id means.
pub fn find<'r>(all: &'r [Reviewed], id: &str) -> Option<&'r Reviewed> {
    let by_job = || {
        let mut of_job = all.iter().filter(|r| r.job.to_string() == id);
        of_job.next().filter(|_| of_job.next().is_none())
    };
    all.iter().find(|r| r.id == id).or_else(by_job)
}

/// What a spreadsheet would take for a formula gets an apostrophe in front, which is taken away again when it is read.
fn guarded(value: &str) -> String {
    let is_formula = value.starts_with(['=', '+', '-', '@', '\t', '\r', '\'']);
    if is_formula { format!("'{value}") } else { value.to_owned() }
}

fn unguarded(value: &str) -> &str {
    value.strip_prefix('\'').unwrap_or(value)
}

/// A table with a row for each item, as spreadsheets read it (RFC 4180).
pub fn to_csv(all: &[Reviewed]) -> Result<String> {
    let fail = |e: csv::Error| Error::NotConfigured(format!("the table cannot be written: {e}"));
    let mut out = csv::Writer::from_writer(Vec::new());
    let heads = ["id", "path", "preset", "state", "release"].into_iter().chain(FIELDS.iter().map(|f| f.0));
    out.write_record(heads).map_err(fail)?;
    for r in all {
        let fields = FIELDS.iter().map(|(name, _)| r.fields.get(*name).map_or("", String::as_str));
        let start = [r.id.as_str(), r.path.as_str(), r.preset.as_str(), r.state, ""];
        out.write_record(start.into_iter().chain(fields).map(guarded)).map_err(fail)?;
    }
    let bytes = out.into_inner().map_err(|e| Error::NotConfigured(e.to_string()))?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

/// What a row of a table asks for.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Row {
    pub line: u64,
    pub id: String,
    pub fields: Fields,
    /// "yes" or "no" in the column `release`.
    pub release: Option<bool>,
}

/// Reads a table back: columns by their names, in any order; what is unknown is told.
pub fn from_csv(text: &str) -> Result<Vec<Row>> {
    let wrong = |why: String| Error::NotConfigured(format!("the table cannot be read: {why}"));
    let mut read =
        csv::ReaderBuilder::new().flexible(true).from_reader(text.trim_start_matches('\u{feff}').as_bytes());
    let heads = read.headers().map_err(|e| wrong(e.to_string()))?.clone();
    if !heads.iter().any(|h| h.trim() == "id") {
        return Err(wrong("it has no column \"id\"".into()));
    }
    let mut out = Vec::new();
    for record in read.records() {
        let record = record.map_err(|e| wrong(e.to_string()))?;
        let mut row = Row { line: record.position().map_or(0, |p| p.line()), ..Row::default() };
        for (head, value) in heads.iter().zip(record.iter()) {
            match head.trim() {
                "id" => row.id = value.trim().to_owned(),
                "release" => {
                    row.release = match value.trim().to_lowercase().as_str() {
                        "yes" => Some(true),
                        "no" => Some(false),
                        "" => None,
                        other => {
                            return Err(wrong(format!(
                                "line {}: \"{other}\" in column release: yes, no or nothing",
                                row.line
                            )));
                        }
                    }
                }
                name if FIELDS.iter().any(|f| f.0 == name) => {
                    _ = row.fields.insert(name.to_owned(), unguarded(value).to_owned())
                }
                _ => (),
            }
        }
        out.push(row);
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_goes_out_and_in() {
        let fields = Fields::from([
            ("title".into(), "Low, \"tide\"".into()),
            ("description".into(), "two\nlines".into()),
        ]);
        let one = Reviewed {
            id: "12.2".into(),
            job: 12,
            output: 1,
            watch: "cards".into(),
            path: "a.mov".into(),
            preset: "web".into(),
            state: "waits for release",
            detail: None,
            fields: fields.clone(),
            by: None,
            places: Vec::new(),
            addresses: Vec::new(),
        };
        let text = to_csv(std::slice::from_ref(&one)).unwrap();
        let rows = from_csv(&format!("\u{feff}{text}")).unwrap();
        assert_eq!((rows[0].id.as_str(), rows[0].release), ("12.2", None));
        assert_eq!(rows[0].fields["title"], fields["title"]);
        assert_eq!(rows[0].fields["description"], fields["description"]);
        assert_eq!(rows[0].fields["tags"], "");
        let formula = Reviewed { fields: Fields::from([("title".into(), "=1+1".into())]), ..one.clone() };
        let text = to_csv(&[formula]).unwrap();
        assert!(text.contains(",'=1+1,"), "{text}");
        assert_eq!(from_csv(&text).unwrap()[0].fields["title"], "=1+1");
        let released = from_csv("release,id,other\nYes,3,x\n").unwrap();
        assert_eq!((released[0].release, released[0].id.as_str(), released[0].line), (Some(true), "3", 2));
        assert!(from_csv("a,b\n1,2\n").unwrap_err().to_string().contains("no column \"id\""));
        assert!(from_csv("id,release\n1,perhaps\n").unwrap_err().to_string().contains("line 2"));
        assert_eq!(find(&[one], "12").map(|r| r.output), Some(1));
    }
}
