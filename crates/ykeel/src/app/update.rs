//! Actions change the state.

use crossterm::event::{Event, KeyCode, KeyEvent, KeyEventKind, MouseButton, MouseEvent, MouseEventKind};
use keel_core::fathom::Method;
use keel_core::intake::{CHECKS, Outcome, SYMPTOMS};
use keel_core::leave::Confirmation;
use keel_core::plan::Direction;
use keel_core::sweep::{Reach, rival};
use keel_core::yard::takes_yes;
use keel_format::table::Scheme;
use keel_format::{NodeKind, Take, Version};
use ratatui::layout::Position;

use super::files::ViewAs;
use super::popup::{Popup, Question, matching, typed};
use super::{App, Effect};
use crate::keymap::{self, Action, Stage};
use crate::{screen, widget};

/// Lines of a page.
const PAGE: usize = 20;

impl App {
    /// Takes a key, a click or a resize.
    pub(crate) fn take_event(&mut self, event: &Event) {
        match event {
            Event::Key(key) if key.kind != KeyEventKind::Release => self.take_key(*key),
            Event::Mouse(mouse) => self.take_mouse(*mouse),
            _ => {}
        }
    }

    fn take_key(&mut self, key: KeyEvent) {
        if !self.popups.is_empty() {
            self.answer(key);
        } else if let Some(action) = keymap::action(key, self.stage) {
            self.told = None;
            self.act(action);
        }
    }

    /// Carries out an action.
    pub(crate) fn act(&mut self, action: Action) {
        match action {
            Action::Quit => self.quit_or_warn(),
            Action::Help => self.popups.push(Popup::Help),
            Action::Commands => self.popups.push(Popup::Commands { filter: String::new(), selected: 0 }),
            Action::GoTo(stage) => self.go_to(stage),
            Action::NextStage => self.go_by(1),
            Action::PreviousStage => self.go_by(Stage::ALL.len() - 1),
            Action::Up => self.step(-1),
            Action::Down => self.step(1),
            Action::PageUp => self.step(-(PAGE as isize)),
            Action::PageDown => self.step(PAGE as isize),
            Action::First => self.step(isize::MIN / 2),
            Action::Last => self.step(isize::MAX / 2),
            Action::Left => self.sideways(-1),
            Action::Right => self.sideways(1),
            Action::Enter => self.enter(),
            Action::Back => self.leave_folder(),
            Action::LookInto => self.look_into_selected(),
            Action::Sweep => self.sweep(Reach::Doubt),
            Action::SweepSurface => self.sweep(Reach::Surface),
            Action::Cancel => self.cancel(),
            Action::Hold | Action::Drop => self.choose(action),
            Action::Compare => self.compare_selected(),
            Action::ChangeScheme => self.change_scheme(),
            Action::ChangeType => self.change_type(),
            Action::TakeMain => self.take_version(Take::Main),
            Action::TakeCopy => self.take_version(self.copy_to_take()),
            Action::TakeComputed => self.take_version(Take::Computed),
            Action::MendRule => self.mend_rule(),
            Action::EraseLeftovers => self.erase_leftovers(),
            Action::NextVolume => self.next_volume(),
            Action::StagePlan => self.go_to(Stage::Plan),
            Action::Apply => self.ask_apply(),
            Action::Undo => self.ask_undo(),
            Action::SaveCopy => self.ask_save(),
            Action::Mark => self.mark(),
            Action::Extract => self.ask_extract(),
            Action::ShowDeleted => self.toggle_deleted(),
            Action::View => self.toggle_view(),
            Action::ZoomIn => self.zoom(1),
            Action::ZoomOut => self.zoom(-1),
            other => self.act_on_sick(other),
        }
    }

    /// Opens the comparison of the selected find with its rival, or leaves it.
    fn compare_selected(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        if drive.comparing.take().is_some() {
            return;
        }
        let rival = drive.selected_find().and_then(|find| Some((find.id.clone(), rival(&drive.finds, find)?.id.clone())));
        match rival {
            Some((one, other)) => {
                drive.comparing = Some((one.clone(), other.clone()));
                self.run_effect(Effect::Compare(one, other));
            }
            None => self.tell("nothing else claims the ground of this find"),
        }
    }

    /// The copy that is shown beside the main structure: the first one that holds.
    fn copy_to_take(&self) -> Take {
        let structure = self.drive.as_ref().and_then(|drive| drive.mend.structure());
        Take::Copy(structure.and_then(|structure| structure.copies.iter().position(Version::holds)).unwrap_or(0))
    }

    fn take_version(&mut self, take: Take) {
        let Some(drive) = &mut self.drive else { return };
        if drive.mend.take(take) {
            drive.settle();
        } else {
            let text = format!("there is no such version here: {}", take.word());
            self.tell(text);
        }
    }

    fn mend_rule(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        if drive.mend.ask_rule() {
            self.run_effect(Effect::AskChecks);
        } else {
            self.tell("this rule has nothing that could be mended");
        }
    }

    fn erase_leftovers(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        let key = ("*".to_string(), keel_core::mend::LEFTOVERS.to_string());
        if !drive.mend.also.remove(&key) {
            drive.mend.also.insert(key);
        }
        drive.settle();
    }

    fn next_volume(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        // Behind the last volume comes the table, and then the first one again.
        let from = if drive.mend.is_table() { 0 } else { drive.find + 1 };
        let outer = |index: &usize| drive.finds.get(*index).is_some_and(keel_core::sweep::Find::is_outer);
        match (from..drive.finds.len()).find(outer) {
            Some(next) => {
                drive.find = next;
                self.run_effect(Effect::LookAtStructures);
            }
            None => drive.look_at_table(),
        }
    }

    fn quit_or_warn(&mut self) {
        if self.is_writing() {
            self.tell("the drive is being written; wait for the end, or stop the measurement with x");
        } else {
            self.quit = true;
        }
    }

    fn go_to(&mut self, stage: Stage) {
        if stage != Stage::Yard && self.drive.is_none() {
            self.tell("open a drive first: enter");
            return;
        }
        self.stage = stage;
        let Some(drive) = &self.drive else { return };
        match stage {
            Stage::Yard => {
                self.refresh_yard();
                self.look_up_case();
            }
            Stage::Files if drive.files.volume.is_none() => {
                let find = drive.selected_find().map(|find| find.id.clone());
                find.into_iter().for_each(|id| self.run_effect(Effect::LookInto(id)));
            }
            Stage::Mend if drive.mend.find.as_ref() != drive.selected_find().map(|find| &find.id) => {
                self.run_effect(Effect::LookAtStructures);
            }
            Stage::Plan if drive.after.is_none() && drive.after_job.is_none() => self.run_effect(Effect::ExaminePlan),
            _ => {}
        }
    }

    fn go_by(&mut self, steps: usize) {
        let here = Stage::ALL.iter().position(|stage| *stage == self.stage).unwrap_or(0);
        self.go_to(Stage::ALL[(here + steps) % Stage::ALL.len()]);
    }

    fn step(&mut self, by: isize) {
        let moved = |at: usize, count: usize| at.saturating_add_signed(by).min(count.saturating_sub(1));
        if self.stage == Stage::Yard {
            self.berth = moved(self.berth, self.berths.len());
            self.look_up_case();
            return;
        }
        let Some(drive) = &mut self.drive else { return };
        match self.stage {
            Stage::Ladder => drive.rung = u32::try_from((drive.rung as isize).saturating_sub(by).clamp(1, 9)).unwrap_or(5),
            Stage::Sweep => drive.find = moved(drive.find, drive.finds.len()),
            Stage::Mend => {
                let fields = drive.mend.structure().map_or(0, |structure| structure.fields.len());
                match drive.mend.field {
                    Some(field) => drive.mend.field = Some(moved(field, fields)),
                    None => drive.mend.row = moved(drive.mend.row, drive.mend.items().len()),
                }
            }
            Stage::Files => drive.files.selected = moved(drive.files.selected, drive.files.entries.len()),
            Stage::Plan => {
                drive.edit = moved(drive.edit, drive.edits.len());
                drive.edit_line = 0;
            }
            Stage::Yard | Stage::Copy | Stage::Fathom => {}
        }
    }

    fn sideways(&mut self, by: isize) {
        let Some(drive) = &mut self.drive else { return };
        match self.stage {
            Stage::Ladder => {
                let count = drive.ladder.as_ref().map_or(0, |ladder| ladder.volumes.len());
                drive.volume = drive.volume.saturating_add_signed(by).min(count.saturating_sub(1));
                // Left and right walk between volumes: the selection goes up to them.
                drive.rung = drive.rung.max(6);
            }
            Stage::Mend => {
                let fields = drive.mend.structure().is_some_and(|structure| !structure.fields.is_empty());
                drive.mend.field = (by > 0 && fields).then(|| drive.mend.field.unwrap_or(0));
            }
            Stage::Files if by > 0 => self.enter(),
            Stage::Files => self.leave_folder(),
            Stage::Plan => {
                let lines = drive
                    .edits
                    .get(drive.edit)
                    .map_or(0, |edit| usize::try_from(edit.after.len().div_ceil(16)).unwrap_or(usize::MAX));
                drive.edit_line = drive.edit_line.saturating_add_signed(by * 8).min(lines.saturating_sub(1));
            }
            _ => {}
        }
    }

    fn enter(&mut self) {
        if self.stage == Stage::Yard {
            if let Some(berth) = self.berths.get(self.berth) {
                let path = berth.path.clone();
                self.run_effect(Effect::OpenDrive(path));
            }
            return;
        }
        let Some(drive) = &mut self.drive else { return };
        let files = &mut drive.files;
        if let Some(entry) = files.entries.get(files.selected).filter(|entry| entry.kind == NodeKind::Directory).cloned() {
            let row = files.selected;
            if let Some(last) = files.trail.last_mut() {
                last.2 = row;
            }
            files.trail.push((entry.id, entry.name, 0));
            files.selected = 0;
            files.entries.clear();
            files.list();
        }
    }

    fn leave_folder(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        if drive.files.trail.len() > 1 {
            drive.files.trail.pop();
            drive.files.selected = drive.files.trail.last().map_or(0, |(_, _, row)| *row);
            drive.files.entries.clear();
            drive.files.list();
        } else {
            self.stage = Stage::Sweep;
        }
    }

    fn look_into_selected(&mut self) {
        let Some(drive) = &self.drive else { return };
        let find = if self.stage == Stage::Ladder { drive.selected_volume_find() } else { drive.selected_find() };
        match find.map(|find| (find.id.clone(), find.kind)) {
            Some((_, kind)) if kind.why_closed().is_some() => {
                self.show(&format!("{} cannot be looked into", kind.word()), kind.why_closed().unwrap_or_default());
            }
            Some((id, _)) => self.run_effect(Effect::LookInto(id)),
            None => self.tell("no volume is selected that could be looked into"),
        }
    }

    fn sweep(&mut self, reach: Reach) {
        self.stage = Stage::Sweep;
        self.run_effect(Effect::Sweep(reach));
    }

    fn cancel(&mut self) {
        if let Some(opening) = &self.opening {
            opening.cancel().cancel();
        }
        if let Some(drive) = &mut self.drive {
            drive.cancel();
        }
    }

    fn choose(&mut self, action: Action) {
        let Some(drive) = &mut self.drive else { return };
        let Some(id) = drive.selected_find().map(|find| find.id.clone()) else { return };
        let (own, other) = match action {
            Action::Hold => (&mut drive.choices.hold, &mut drive.choices.drop),
            _ => (&mut drive.choices.drop, &mut drive.choices.hold),
        };
        other.remove(&id);
        if !own.remove(&id) {
            own.insert(id);
        }
        drive.settle();
    }

    fn change_scheme(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        drive.choices.scheme = match drive.choices.scheme {
            None => Some(Scheme::Mbr),
            Some(Scheme::Mbr) => Some(Scheme::Gpt),
            Some(Scheme::Gpt | Scheme::Apm) => None,
        };
        drive.settle();
    }

    /// Gives the entry of the selected find the next type behind which systems look for its kind; behind the last one
    /// comes the customary one again.
    fn change_type(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        let Some((id, kind)) = drive.selected_find().map(|find| (find.id.clone(), find.kind)) else { return };
        let entry = drive.layout.iter().flat_map(|layout| &layout.entries).find(|entry| entry.find.as_ref() == Some(&id));
        // What was chosen a moment ago counts, settled or not.
        let chosen = drive.choices.types.get(&id).copied();
        let Some(now) = entry.and(chosen).or(entry.map(|entry| entry.type_code)) else {
            self.tell("the find has no entry in the layout");
            return;
        };
        let choices = now.alike(kind);
        match choices.iter().position(|code| *code == now).and_then(|at| choices.get(at + 1)) {
            Some(next) => drop(drive.choices.types.insert(id, *next)),
            None if choices.len() > 1 => drop(drive.choices.types.insert(id, choices[0])),
            None => {
                let only = format!("{} has one type only: {}", kind.word(), now.word());
                self.tell(&only);
                return;
            }
        }
        drive.settle();
    }

    fn ask_apply(&mut self) {
        let Some(drive) = &self.drive else { return };
        let plan = drive.plan();
        if plan.edits.is_empty() {
            self.tell("the plan is empty: there is nothing to apply");
        } else if drive.settle_job.is_some() {
            self.tell("the plan is being settled anew: a moment");
        } else if drive.sweep_job.is_some() || drive.writing.is_some() {
            self.tell("wait for the running job, or stop it with x");
        } else if plan.copy_first && drive.override_words.is_none() {
            self.ask(Question::OverrideWords, String::new());
        } else {
            self.ask(Question::Code, String::new());
        }
    }

    fn ask_undo(&mut self) {
        let Some(drive) = &self.drive else { return };
        if drive.bundle.is_none() {
            self.tell("no undo bundle of this drive is known");
        } else {
            self.ask(Question::RecoverCode { direction: Direction::RollBack }, String::new());
        }
    }

    fn ask_save(&mut self) {
        let Some(drive) = &self.drive else { return };
        let name = drive.source.identity().name.replace(".img", "");
        self.ask(Question::SaveTo, format!("{name}-repaired.img"));
    }

    fn ask_extract(&mut self) {
        let Some(drive) = &self.drive else { return };
        if drive.files.wanted().is_empty() {
            self.tell("nothing is selected");
            return;
        }
        let to = drive.files.default_target(&drive.source.identity().name);
        self.ask(Question::ExtractTo, to.to_string_lossy().into_owned());
    }

    fn mark(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        let Some(path) = drive.files.selected_entry().map(|entry| drive.files.path_of(entry)) else { return };
        if drive.files.marked.remove(&path).is_none() {
            drive.files.marked.insert(path, true);
        }
        self.step(1);
    }

    fn toggle_deleted(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        drive.files.show_deleted = !drive.files.show_deleted;
        drive.files.list();
    }

    fn toggle_view(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        drive.files.view = if drive.files.view == ViewAs::Hex { ViewAs::Content } else { ViewAs::Hex };
    }

    fn zoom(&mut self, by: i32) {
        let Some(drive) = &mut self.drive else { return };
        drive.zoom = drive.zoom.saturating_add_signed(by).min(16);
    }

    fn answer(&mut self, key: KeyEvent) {
        let Some(popup) = self.popups.pop() else { return };
        if key.code == KeyCode::Esc {
            return;
        }
        match popup {
            Popup::Help | Popup::Message { .. } => {}
            Popup::Interrupted { bundle } => match key.code {
                KeyCode::Char('f') => self.recover(bundle, Direction::Finish),
                KeyCode::Char('r') => self.recover(bundle, Direction::RollBack),
                _ => self.popups.push(Popup::Interrupted { bundle }),
            },
            Popup::Commands { filter, selected } => self.answer_commands(key, filter, selected),
            Popup::Symptoms { selected } => self.answer_symptoms(key, selected),
            Popup::Checks { selected } => self.answer_checks(key, selected),
            Popup::Ask { question, mut line } => match key.code {
                KeyCode::Enter => self.answered(&question, &line),
                code => {
                    edit(&mut line, code);
                    self.popups.push(Popup::Ask { question, line });
                }
            },
        }
    }

    fn answer_commands(&mut self, key: KeyEvent, mut filter: String, mut selected: usize) {
        match key.code {
            KeyCode::Enter => {
                if let Some(binding) = matching(&filter).get(selected) {
                    if binding.stages.is_empty() || binding.stages.contains(&self.stage) {
                        self.act(binding.action);
                    } else {
                        self.go_to(binding.stages[0]);
                    }
                }
                return;
            }
            KeyCode::Up => selected = selected.saturating_sub(1),
            KeyCode::Down => selected += 1,
            code => {
                edit(&mut filter, code);
                selected = 0;
            }
        }
        selected = selected.min(matching(&filter).len().saturating_sub(1));
        self.popups.push(Popup::Commands { filter, selected });
    }

    fn answer_symptoms(&mut self, key: KeyEvent, mut selected: usize) {
        match key.code {
            KeyCode::Up => selected = selected.saturating_sub(1),
            KeyCode::Down => selected = (selected + 1).min(SYMPTOMS.len() - 1),
            KeyCode::Char(' ') => self.toggle_symptom(selected),
            KeyCode::Enter => return,
            _ => {}
        }
        self.popups.push(Popup::Symptoms { selected });
    }

    fn answer_checks(&mut self, key: KeyEvent, mut selected: usize) {
        match key.code {
            KeyCode::Up => selected = selected.saturating_sub(1),
            KeyCode::Down => selected = (selected + 1).min(CHECKS.len() - 1),
            KeyCode::Char('y') => self.settle_check(selected, Some(Outcome::Yes)),
            KeyCode::Char('n') => self.settle_check(selected, Some(Outcome::No)),
            KeyCode::Backspace => self.settle_check(selected, None),
            KeyCode::Char('e') => {
                self.popups.push(Popup::Checks { selected });
                self.ask(Question::CheckNote { row: selected }, self.note_of_check(selected));
                return;
            }
            KeyCode::Enter => return,
            _ => {}
        }
        self.popups.push(Popup::Checks { selected });
    }

    /// Finishes an interrupted apply or puts it back; a block device wants its code first.
    fn recover(&mut self, bundle: std::path::PathBuf, direction: Direction) {
        let Some(drive) = &mut self.drive else { return };
        drive.bundle = Some(bundle.clone());
        match takes_yes(drive.source.identity()) {
            true => self.run_effect(Effect::Recover(bundle, direction, Confirmation::Yes)),
            false => self.ask(Question::RecoverCode { direction }, String::new()),
        }
    }

    fn answered(&mut self, question: &Question, line: &str) {
        match question {
            Question::Told => return self.keep_text(line),
            Question::CheckNote { row } => return self.note_check(*row, line),
            _ => {}
        }
        let Some(drive) = &mut self.drive else { return };
        let code = drive.source.identity().code();
        let matches = line.trim().eq_ignore_ascii_case(&code);
        match question {
            Question::Code if matches => self.run_effect(Effect::Apply(line.to_string())),
            Question::Code => self.show("Not applied", "That is not the code of this drive. Nothing was written."),
            Question::OverrideWords => {
                drive.override_words = Some(line.trim().to_string());
                self.ask(Question::Code, String::new());
            }
            Question::RecoverCode { direction } => {
                if let Some(bundle) = drive.bundle.clone() {
                    self.run_effect(Effect::Recover(bundle, *direction, typed(line)));
                }
            }
            Question::PutBackCode => self.put_back_probe(typed(line)),
            Question::ExtractTo => self.run_effect(Effect::Extract(line.trim().into())),
            Question::SaveTo => self.run_effect(Effect::SaveCopy(line.trim().into())),
            Question::CopyTo => self.start_copy(line.trim().into(), None),
            Question::DestCode => {
                if let Some(dest) = drive.copy.dest.clone() {
                    self.start_copy(dest, Some(line.trim().to_string()));
                }
            }
            Question::ProbeCode if matches => self.measure(Method::Probe, line.to_string()),
            Question::FillCode if matches => self.measure(Method::Fill, line.to_string()),
            Question::ProbeCode | Question::FillCode => {
                self.show("Not measured", "That is not the code of this drive. Nothing was written.");
            }
            Question::ReportTo => {
                let path = std::path::PathBuf::from(line.trim());
                self.write_report(&path);
            }
            Question::Told | Question::CheckNote { .. } => {}
        }
    }

    fn take_mouse(&mut self, mouse: MouseEvent) {
        if !self.popups.is_empty() {
            return;
        }
        match mouse.kind {
            MouseEventKind::ScrollUp => self.step(-1),
            MouseEventKind::ScrollDown => self.step(1),
            MouseEventKind::Down(MouseButton::Left) => self.click(Position::new(mouse.column, mouse.row)),
            _ => {}
        }
    }

    fn click(&mut self, at: Position) {
        let Some(parts) = widget::parts(self.area) else { return };
        if parts.course.contains(at) {
            if let Some(stage) = widget::course::stage_at(parts.course, at.x) {
                self.go_to(stage);
            }
        } else if parts.keel.contains(at) {
            let place = widget::keel::byte_at(self, parts.keel, at.y);
            if let Some(drive) = &mut self.drive
                && let Some(index) = drive.finds.iter().position(|find| place.is_some_and(|place| find.range().contains(place)))
            {
                drive.find = index;
                let id = drive.finds.get(index).map(|find| find.id.clone());
                let volumes = drive.ladder.as_ref().map(|ladder| &ladder.volumes);
                drive.volume = volumes
                    .and_then(|volumes| volumes.iter().position(|volume| Some(&volume.id) == id.as_ref()))
                    .unwrap_or(drive.volume);
            }
        } else if parts.middle.contains(at) {
            screen::click(self, parts.middle, at);
        }
    }
}

/// Edits a typed line.
fn edit(line: &mut String, code: KeyCode) {
    match code {
        KeyCode::Char(sign) if !sign.is_control() && line.len() < 400 => line.push(sign),
        KeyCode::Backspace => {
            line.pop();
        }
        _ => {}
    }
}
