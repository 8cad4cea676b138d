//! The board: a house on a whole terminal. What is drawn follows from the status and from where the person is; nothing here
//! asks anybody.

use super::status::begins;
use super::{bytes, seconds};
use porter::control::Rests;
use porter::progress::Unit;
use porter::report::{Going, JobStatus, Status};
use porter::store::State;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Block, Clear, Paragraph};

/// Where the person is on the board.
#[derive(Debug, Default)]
pub struct View {
    /// The job that is chosen.
    pub chosen: Option<i64>,
    /// The first line of the list that is shown.
    pub top: usize,
    pub over: Over,
    /// What came of the last order.
    pub said: String,
    pub colour: bool,
}

/// What lies over the list.
#[derive(Debug, Default, PartialEq, Eq)]
pub enum Over {
    #[default]
    Nothing,
    /// One job, and the first of its lines that is shown.
    Details {
        text: String,
        top: usize,
    },
    /// Whether to cancel this job.
    Sure(i64),
    Keys,
}

/// What a key asks for.
#[derive(Debug, PartialEq, Eq)]
pub enum Wish {
    Nothing,
    Leave,
    Details(i64),
    Cancel(i64),
    Hold(i64),
    Release(i64),
    First(i64),
    Again(i64),
    Pause,
    Resume,
}

/// Keys by what they mean.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Key {
    Up,
    Down,
    PageUp,
    PageDown,
    Top,
    End,
    Enter,
    Escape,
    Letter(char),
}

const KEYS: [(&str, &str); 11] = [
    ("Up, Down", "choose a job (also Page Up, Page Down, Home, End)"),
    ("Enter", "everything about the job"),
    ("h", "hold it: nothing more of it is begun"),
    ("r", "release it, and go on"),
    ("f", "put it before all others"),
    ("c", "cancel it (asks first)"),
    ("a", "do it again, when it has ended"),
    ("p", "pause the porter, or go on"),
    ("?", "these keys"),
    ("Escape", "back"),
    ("q", "leave the board; the porter goes on"),
];

/// A line of the list.
enum Row<'s> {
    Head(String),
    Job(&'s JobStatus),
    Note(String, Mark),
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Mark {
    Plain,
    Quiet,
    Good,
    Warn,
    Bad,
}

fn rows(s: &Status) -> Vec<Row<'_>> {
    let mut out = Vec::new();
    let troubles: Vec<_> = s.watches.iter().filter_map(|w| Some((&w.name, w.trouble.as_ref()?))).collect();
    let needs: Vec<&JobStatus> = s.open.iter().filter(|j| j.needs_person).collect();
    let (away, shut): (Vec<_>, Vec<_>) = s.away.iter().partition(|a| a.needs_person());
    let count = troubles.len() + away.len() + needs.len();
    if count > 0 {
        out.push(Row::Head(format!("Needs a person ({count})")));
        out.extend(
            troubles.iter().map(|(name, why)| Row::Note(format!("watch \"{name}\": {why}"), Mark::Bad)),
        );
        out.extend(away.into_iter().map(|a| {
            let next = seconds(a.next_try_seconds);
            let is = if a.how == Rests::Full { "full" } else { "away" };
            Row::Note(format!("place \"{}\" is {is} (next try in {next}): {}", a.place, a.why), Mark::Bad)
        }));
        out.extend(needs.into_iter().map(Row::Job));
    }
    out.extend(shut.into_iter().map(|a| Row::Note(format!("place \"{}\": {}", a.place, a.why), Mark::Warn)));
    let (running, waits): (Vec<&JobStatus>, Vec<&JobStatus>) =
        s.open.iter().filter(|j| !j.needs_person).partition(|j| j.progress.is_some());
    let more = s.open_count.saturating_sub(s.open.len() as u64);
    if !running.is_empty() {
        out.push(Row::Head(format!("In work ({})", running.len())));
        out.extend(running.into_iter().map(Row::Job));
    }
    if !waits.is_empty() {
        out.push(Row::Head(format!("In line ({})", waits.len() as u64 + more)));
        out.extend(waits.into_iter().map(Row::Job));
        if more > 0 {
            out.push(Row::Note(format!("and {more} more"), Mark::Quiet));
        }
    }
    if !s.arriving.is_empty() {
        out.push(Row::Head(format!("Arriving ({})", s.arriving.len() + s.arriving_not_listed)));
        const MOST: usize = 12;
        out.extend(s.arriving.iter().take(MOST).map(|a| {
            Row::Note(format!("{}: {}  {}  {}", a.watch, a.path, bytes(a.bytes), a.why), Mark::Plain)
        }));
        let more = s.arriving.len().saturating_sub(MOST) + s.arriving_not_listed;
        if more > 0 {
            out.push(Row::Note(format!("and {more} more"), Mark::Quiet));
        }
    }
    if !s.ended.is_empty() {
        out.push(Row::Head("Ended".into()));
        out.extend(s.ended.iter().map(Row::Job));
    }
    if out.is_empty() {
        out.push(Row::Note("Nothing is arriving, in work or done yet.".into(), Mark::Quiet));
    }
    out
}

impl View {
    /// Chooses a job by where it stands on the board.
    fn walk(&mut self, s: &Status, by: isize) {
        let rows = rows(s);
        let jobs: Vec<i64> = rows
            .iter()
            .filter_map(|r| match r {
                Row::Job(j) => Some(j.job),
                _ => None,
            })
            .collect();
        let Some(last) = jobs.len().checked_sub(1) else { return };
        let at = self.chosen.and_then(|c| jobs.iter().position(|j| *j == c));
        let to = match at {
            Some(at) => at.saturating_add_signed(by).min(last),
            None if by > 0 => 0,
            None => last,
        };
        self.chosen = Some(jobs[to]);
    }

    /// What a key does here, and what it asks for elsewhere.
    pub fn key(&mut self, key: Key, s: &Status) -> Wish {
        match (&mut self.over, key) {
            (Over::Sure(job), Key::Letter('y')) => {
                let job = *job;
                self.over = Over::Nothing;
                return Wish::Cancel(job);
            }
            (Over::Sure(_), _) => {
                self.over = Over::Nothing;
                self.said = "Nothing was cancelled.".into();
                return Wish::Nothing;
            }
            (Over::Details { top, .. }, Key::Down) => *top += 1,
            (Over::Details { top, .. }, Key::Up) => *top = top.saturating_sub(1),
            (Over::Details { top, .. }, Key::PageDown) => *top += 15,
            (Over::Details { top, .. }, Key::PageUp) => *top = top.saturating_sub(15),
            (Over::Details { .. } | Over::Keys, Key::Escape | Key::Enter | Key::Letter('q' | '?')) => {
                self.over = Over::Nothing;
            }
            (Over::Details { .. } | Over::Keys, _) => (),
            (Over::Nothing, Key::Up) => self.walk(s, -1),
            (Over::Nothing, Key::Down) => self.walk(s, 1),
            (Over::Nothing, Key::PageUp) => self.walk(s, -10),
            (Over::Nothing, Key::PageDown) => self.walk(s, 10),
            (Over::Nothing, Key::Top) => self.walk(s, isize::MIN / 2),
            (Over::Nothing, Key::End) => self.walk(s, isize::MAX / 2),
            (Over::Nothing, Key::Escape) => self.said.clear(),
            (Over::Nothing, Key::Letter('q')) => return Wish::Leave,
            (Over::Nothing, Key::Letter('?')) => self.over = Over::Keys,
            (Over::Nothing, Key::Letter('p')) => return if s.paused { Wish::Resume } else { Wish::Pause },
            (Over::Nothing, key) => return self.of_job(key),
        }
        Wish::Nothing
    }

    fn of_job(&mut self, key: Key) -> Wish {
        let Some(job) = self.chosen else {
            if matches!(key, Key::Enter | Key::Letter('h' | 'r' | 'f' | 'c' | 'a')) {
                self.said = "Choose a job first, with Up and Down.".into();
            }
            return Wish::Nothing;
        };
        match key {
            Key::Enter => Wish::Details(job),
            Key::Letter('h') => Wish::Hold(job),
            Key::Letter('r') => Wish::Release(job),
            Key::Letter('f') => Wish::First(job),
            Key::Letter('a') => Wish::Again(job),
            Key::Letter('c') => {
                self.over = Over::Sure(job);
                Wish::Nothing
            }
            _ => Wish::Nothing,
        }
    }

    fn style(&self, mark: Mark) -> Style {
        let plain = Style::new();
        match (mark, self.colour) {
            (Mark::Plain, _) => plain,
            (Mark::Quiet, true) => plain.fg(Color::DarkGray),
            (Mark::Good, true) => plain.fg(Color::Green),
            (Mark::Warn, true) => plain.fg(Color::LightMagenta),
            (Mark::Bad, true) => plain.fg(Color::LightRed),
            // Without colour what matters is set apart all the same.
            (Mark::Bad | Mark::Warn, false) => plain.add_modifier(Modifier::BOLD),
            (Mark::Quiet | Mark::Good, false) => plain,
        }
    }

    pub fn draw(&mut self, f: &mut Frame<'_>, s: &Status) {
        let area = f.area();
        if area.width < 20 || area.height < 6 {
            f.render_widget(Paragraph::new("too small"), area);
            return;
        }
        let head = Rect { height: 1, ..area };
        let list = Rect { y: area.y + 2, height: area.height - 4, ..area };
        let foot = Rect { y: area.bottom() - 1, height: 1, ..area };
        f.render_widget(self.head(s, area.width as usize), head);
        self.list(f, s, list);
        f.render_widget(self.foot(area.width as usize), foot);
        match &self.over {
            Over::Nothing => (),
            Over::Details { text, top } => {
                let lines = text.lines().count();
                let room = (area.height as usize).saturating_sub(2);
                let top = (*top).min(lines.saturating_sub(room));
                let shown: Vec<Line<'_>> = text.lines().skip(top).map(Line::from).collect();
                let title = if lines > room { " Escape: back, Up and Down: more " } else { " Escape: back " };
                over(f, area, shown, title);
                self.over = Over::Details { text: text.clone(), top };
            }
            Over::Sure(job) => {
                let name = s.open.iter().find(|j| j.job == *job).map_or("", |j| j.path.as_str());
                let asked =
                    format!("Cancel job {job} {name}? What was delivered stays, and so does the original.");
                let box_ = middle(area, 6, 64);
                let lines = wrapped(&asked, box_.width as usize - 4);
                let lines = lines.into_iter().chain(["".into(), "y: cancel it   any other key: no".into()]);
                over(f, box_, lines.map(Line::from).collect(), " Sure? ");
            }
            Over::Keys => {
                let lines = KEYS.iter().map(|(k, what)| Line::from(format!("{k:<10} {what}"))).collect();
                over(f, middle(area, KEYS.len() as u16 + 2, 66), lines, " Keys ");
            }
        }
    }

    fn head(&self, s: &Status, width: usize) -> Line<'static> {
        let (state, mark) = match (s.running, s.paused) {
            (false, _) => ("NO PORTER IS RUNNING", Mark::Bad),
            (true, true) => ("PAUSED", Mark::Warn),
            (true, false) => ("running", Mark::Good),
        };
        let count = |state: State| s.ended_counts.iter().find(|c| c.state == state).map_or(0, |c| c.jobs);
        let needs = s.open.iter().filter(|j| j.needs_person).count()
            + s.away.iter().filter(|a| a.needs_person()).count()
            + s.watches.iter().filter(|w| w.trouble.is_some()).count();
        let time = s.at.get(11..19).unwrap_or_default().to_owned();
        let mut counts = format!("{} open, {} done", s.open_count, count(State::Done));
        if count(State::TurnedAway) > 0 {
            counts.push_str(&format!(", {} turned away", count(State::TurnedAway)));
        }
        let mut spans = vec![
            Span::styled(s.house.clone(), Style::new().add_modifier(Modifier::BOLD)),
            Span::raw("  "),
            Span::styled(state, self.style(mark)),
            Span::raw("  "),
            Span::raw(counts),
        ];
        if needs > 0 {
            spans.push(Span::styled(
                format!("  {needs} {}", if needs == 1 { "needs a person" } else { "need a person" }),
                self.style(Mark::Bad),
            ));
        }
        let used: usize = spans.iter().map(Span::width).sum();
        let gap = width.saturating_sub(used + time.len());
        if gap > 0 {
            spans.push(Span::raw(" ".repeat(gap)));
            spans.push(Span::raw(time));
        }
        Line::from(spans)
    }

    fn foot(&self, width: usize) -> Line<'static> {
        if !self.said.is_empty() {
            return Line::styled(cut(&self.said, width), Style::new().add_modifier(Modifier::BOLD));
        }
        let keys = "Up/Down choose  Enter details  h hold  r release  f first  c cancel  a again  p pause  ? keys  q leave";
        let short = "Enter details  h hold  r release  f first  c cancel  a again  ? keys  q leave";
        Line::styled(cut(if keys.len() <= width { keys } else { short }, width), self.style(Mark::Quiet))
    }

    fn list(&mut self, f: &mut Frame<'_>, s: &Status, area: Rect) {
        let rows = rows(s);
        let (width, height) = (area.width as usize, area.height as usize);
        let at = rows.iter().position(|r| matches!(r, Row::Job(j) if Some(j.job) == self.chosen));
        // The chosen job stays in sight; of its group the head as well, where it is the line above.
        if let Some(at) = at {
            self.top = self.top.min(at.saturating_sub(1)).max((at + 1).saturating_sub(height));
        }
        self.top = self.top.min(rows.len().saturating_sub(height));
        let longest = s.open.iter().chain(&s.ended).map(|j| j.path.chars().count()).max().unwrap_or(0);
        let mut lines: Vec<Line<'_>> = Vec::new();
        for (n, row) in rows.iter().enumerate().skip(self.top).take(height) {
            lines.push(match row {
                Row::Head(text) => Line::styled(text.clone(), Style::new().add_modifier(Modifier::BOLD)),
                Row::Note(text, mark) => {
                    Line::styled(format!("  {}", cut(text, width - 2)), self.style(*mark))
                }
                Row::Job(j) => {
                    let line = self.job(j, width, longest);
                    if Some(n) == at {
                        line.style(Style::new().add_modifier(Modifier::REVERSED))
                    } else {
                        line
                    }
                }
            });
        }
        f.render_widget(Paragraph::new(lines), area);
    }

    /// A job in one line: number, file, step, and how far it is or what of it.
    fn job(&self, j: &JobStatus, width: usize, longest: usize) -> Line<'static> {
        let mark = match (&j.state, &j.held) {
            (_, Some(_)) => Mark::Warn,
            (State::TurnedAway, _) => Mark::Bad,
            (State::Done, _) => Mark::Good,
            (State::Withdrawn | State::Cancelled, _) => Mark::Quiet,
            _ => Mark::Plain,
        };
        let step = match (&j.progress, j.on_hold, &j.held) {
            (_, true, _) => "on hold".to_owned(),
            (_, _, Some(_)) => "held".to_owned(),
            (Some(p), ..) => p.stage.to_string(),
            _ => j.state.name().to_owned(),
        };
        let name = (width.saturating_sub(22) * 2 / 5).clamp(10, 60).min(longest.max(10));
        let rest = width.saturating_sub(name + 24);
        let told = match (&j.progress, &j.held) {
            (_, Some(why)) => cut(why, rest),
            (Some(p), None) => going(p, rest),
            (None, None) => match begins(j) {
                Some(at) => cut(&at, rest),
                None => cut(&brief(j), rest),
            },
        };
        let first = if j.priority >= 10 { '!' } else { ' ' };
        Line::from(vec![
            Span::raw(format!("{:>6}{first} {:<name$} ", j.job, tail(&j.path, name))),
            Span::styled(format!("{:<13} ", cut(&step, 13)), self.style(mark)),
            Span::raw(told),
        ])
    }
}

/// A bar, percent, speed and the time that is left, as far as there is room.
fn going(g: &Going, room: usize) -> String {
    let speed = match g.unit {
        Unit::Bytes => format!("{}/s", bytes(g.per_second as u64)),
        Unit::Milliseconds => format!("{:.1} x real time", g.per_second / 1000.0),
        unit => format!("{:.0} {unit}/s", g.per_second),
    };
    let left = g.seconds_left.map_or(String::new(), |s| format!("{} left", seconds(s)));
    let Some(percent) = g.percent else { return cut(&format!("{speed}  {left}"), room) };
    let words = format!(" {percent:>3.0} %  {speed}  {left}");
    let bar = room.saturating_sub(words.chars().count()).min(30);
    let full = (bar as f64 * percent / 100.0).round() as usize;
    let drawn =
        if bar >= 6 { format!("{}{}", "#".repeat(full), "-".repeat(bar - full)) } else { String::new() };
    cut(&format!("{drawn}{words}"), room)
}

/// What is made, or what became of it.
fn brief(j: &JobStatus) -> String {
    match &j.state {
        State::Done => {
            let when = j.ended.as_deref().and_then(|e| e.get(11..16)).unwrap_or_default();
            let all: Vec<String> = j
                .outputs
                .iter()
                .flat_map(|o| &o.deliveries)
                .filter(|d| d.delivered.is_some())
                .map(|d| format!("{}: {}", d.place, d.name))
                .collect();
            format!("{when}  {}", all.join(", "))
        }
        State::TurnedAway | State::Withdrawn => j.reason.clone().unwrap_or_default(),
        _ => {
            let mut presets: Vec<&str> = j.outputs.iter().map(|o| o.preset.as_str()).collect();
            presets.dedup();
            presets.join(", ")
        }
    }
}

fn cut(text: &str, room: usize) -> String {
    match text.chars().count() <= room {
        true => text.to_owned(),
        false => text.chars().take(room.saturating_sub(3)).chain("...".chars().take(room)).collect(),
    }
}

/// Of a path the end says more.
fn tail(path: &str, room: usize) -> String {
    let count = path.chars().count();
    match count <= room {
        true => path.to_owned(),
        false => "...".chars().chain(path.chars().skip(count - room.saturating_sub(3))).collect(),
    }
}

fn wrapped(text: &str, width: usize) -> Vec<String> {
    let mut out = vec![String::new()];
    for word in text.split(' ') {
        let last = out.last_mut().map_or(0, |l| l.chars().count());
        if last > 0 && last + 1 + word.chars().count() > width {
            out.push(String::new());
        }
        if let Some(line) = out.last_mut() {
            if !line.is_empty() {
                line.push(' ');
            }
            line.push_str(word);
        }
    }
    out
}

fn middle(area: Rect, height: u16, width: u16) -> Rect {
    let (width, height) = (width.min(area.width), height.min(area.height));
    Rect { x: area.x + (area.width - width) / 2, y: area.y + (area.height - height) / 2, width, height }
}

fn over(f: &mut Frame<'_>, area: Rect, lines: Vec<Line<'_>>, title: &str) {
    f.render_widget(Clear, area);
    f.render_widget(Paragraph::new(lines).block(Block::bordered().title(title.to_owned())), area);
}

#[cfg(test)]
mod tests {
    use super::*;
    use porter::report::{Arriving, AwayStatus, DeliveryStatus, OutputStatus, StateCount, WatchStatus};
    use ratatui::Terminal;
    use ratatui::backend::TestBackend;

    fn job(number: i64, path: &str, state: State) -> JobStatus {
        let ended = state.has_ended().then(|| "2026-11-23T07:05:49.000+00:00".to_owned());
        let delivery = DeliveryStatus {
            place: "editors".into(),
            name: path.replace(".mp4", "_proxy.mp4"),
            delivered: ended.clone(),
            proof: None,
            left_out: None,
            address: None,
        };
        let output = OutputStatus {
            preset: "proxy".into(),
            preset_version: "1".into(),
            rule: "clips".into(),
            end: "open",
            why: None,
            bytes: None,
            checksum: None,
            made: None,
            deliveries: vec![delivery],
        };
        JobStatus {
            job: number,
            watch: "cards".into(),
            path: path.into(),
            bytes: 5_000_000,
            reason: (state == State::TurnedAway).then(|| "damaged at byte 4096: cut off".into()),
            state,
            arrived: "2026-11-23T07:00:00.000+00:00".into(),
            ended,
            progress: None,
            priority: 0,
            on_hold: false,
            held: None,
            next_try_seconds: None,
            expected_start: None,
            needs_person: false,
            original: None,
            source_version: None,
            same_source: Vec::new(),
            way: Vec::new(),
            outputs: vec![output],
        }
    }

    fn house() -> Status {
        let mut running = job(3, "day 2/camera A/a very long name of a clip of the heron.mp4", State::Making);
        let stage = porter::progress::Stage::Making;
        running.progress = Some(Going {
            stage,
            unit: Unit::Frames,
            done: 620,
            total: Some(1000),
            percent: Some(62.0),
            per_second: 118.0,
            seconds_left: Some(3.0),
        });
        let mut first = job(5, "urgent.mp4", State::Waiting);
        first.priority = 10;
        let mut held = job(4, "otter.mp4", State::Carrying);
        held.held = Some("the disk of the state folder is full".into());
        held.needs_person = true;
        Status {
            version: 2,
            house: "Estuary Hours".into(),
            at: "2026-11-23T07:05:49.000+00:00".into(),
            running: true,
            paused: false,
            watches: vec![WatchStatus { name: "cards".into(), folder: "/in".into(), trouble: None }],
            away: vec![AwayStatus {
                place: "cloud".into(),
                how: Rests::Away,
                why: "no answer in 30 s".into(),
                next_try_seconds: 7.0,
            }],
            arriving: vec![Arriving {
                watch: "cards".into(),
                path: "still copying.mp4".into(),
                bytes: 1_200_000_000,
                why: "steady for 1 of 5 s".into(),
                seconds: Some(4.0),
            }],
            arriving_not_listed: 3,
            open: vec![running, held, first, job(6, "reeds.mp4", State::Waiting)],
            open_count: 4,
            ended: vec![job(2, "warden.mp4", State::Done), job(1, "damaged.mp4", State::TurnedAway)],
            ended_counts: vec![
                StateCount { state: State::Done, jobs: 184 },
                StateCount { state: State::TurnedAway, jobs: 1 },
            ],
        }
    }

    fn drawn(view: &mut View, s: &Status, width: u16, height: u16) -> String {
        let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
        terminal.draw(|f| view.draw(f, s)).unwrap();
        let buffer = terminal.backend().buffer().clone();
        let line = |y| {
            let cells = (0..width).map(|x| buffer[(x, y)].symbol());
            cells.collect::<String>().trim_end().to_owned()
        };
        (0..height).map(line).collect::<Vec<_>>().join("\n")
    }

    #[test]
    fn the_board_fits_small_and_large_terminals() {
        let s = house();
        insta::assert_snapshot!("board_80x24", drawn(&mut View::default(), &s, 80, 24));
        insta::assert_snapshot!("board_160x30", drawn(&mut View::default(), &s, 160, 30));
        for (w, h) in [(1, 1), (19, 5), (20, 6), (30, 8), (200, 60)] {
            drawn(&mut View { chosen: Some(1), ..View::default() }, &s, w, h);
        }
    }

    #[test]
    fn keys_choose_a_job_and_ask_for_things() {
        let (s, mut v) = (house(), View::default());
        assert_eq!(v.key(Key::Letter('h'), &s), Wish::Nothing);
        assert!(v.said.contains("Choose a job"));
        // In the order of the board: what needs a person, what runs, what waits, what ended.
        let order: Vec<i64> = (0..7)
            .map(|_| {
                v.key(Key::Down, &s);
                v.chosen.unwrap()
            })
            .collect();
        assert_eq!(order, [4, 3, 5, 6, 2, 1, 1]);
        v.key(Key::Top, &s);
        assert_eq!(v.key(Key::Letter('h'), &s), Wish::Hold(4));
        v.key(Key::Down, &s);
        assert_eq!(v.key(Key::Letter('c'), &s), Wish::Nothing, "it asks first");
        assert!(drawn(&mut v, &s, 80, 24).contains("Cancel job 3"));
        assert_eq!(v.key(Key::Letter('n'), &s), Wish::Nothing);
        v.key(Key::Letter('c'), &s);
        assert_eq!(v.key(Key::Letter('y'), &s), Wish::Cancel(3));
        assert_eq!(v.key(Key::Letter('p'), &s), Wish::Pause);
        assert_eq!(v.key(Key::Letter('q'), &s), Wish::Leave);
        assert_eq!(v.key(Key::Enter, &s), Wish::Details(3));
        v.over = Over::Details { text: (0..99).map(|n| format!("line {n}\n")).collect(), top: 0 };
        (0..9).for_each(|_| _ = v.key(Key::PageDown, &s));
        assert!(drawn(&mut v, &s, 80, 24).contains("line 98"));
        assert_eq!(v.key(Key::Letter('q'), &s), Wish::Nothing, "back, not away");
        assert_eq!(v.over, Over::Nothing);
    }

    #[test]
    fn the_chosen_job_stays_in_sight() {
        let mut s = house();
        s.ended = (10..200).map(|n| job(n, "a.mp4", State::Done)).collect();
        let mut v = View::default();
        for key in [Key::End, Key::PageUp, Key::Top, Key::PageDown, Key::End] {
            v.key(key, &s);
            let text = drawn(&mut v, &s, 80, 24);
            let chosen = format!("{:>6} ", v.chosen.unwrap());
            assert!(text.lines().any(|l| l.starts_with(&chosen)), "{chosen}: {text}");
        }
        // A job that is gone is chosen no more, and nothing breaks.
        s.ended.clear();
        drawn(&mut v, &s, 80, 24);
        v.key(Key::Up, &s);
    }
}
