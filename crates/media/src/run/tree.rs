//! The plan's graph as threads: a node with one taker works in that taker's thread; one with several has a thread of its
//! own, which sends what it gives to each of them.

use super::{Control, Line, Message};
use crate::error::{Error, Result};
use crate::filter::video::{Chain, Shown, VideoFilter};
use crate::frame::Pool;
use crate::plan::{MadePlan, Plan};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};

/// Those who take what comes from one point of the graph. One that has ended is not sent to any more.
pub struct Takers {
    to: Vec<Option<SyncSender<Message>>>,
}

impl Takers {
    /// `Stopped` when nobody takes any more.
    pub fn send(&mut self, shown: &Shown) -> Result<()> {
        for to in &mut self.to {
            if to.as_ref().is_some_and(|t| t.send(Message::Picture(shown.clone())).is_err()) {
                *to = None;
            }
        }
        if self.to.iter().all(Option::is_none) { Err(Error::Stopped) } else { Ok(()) }
    }

    pub fn is_empty(&self) -> bool {
        self.to.is_empty()
    }

    pub fn end(self) {
        for to in self.to.into_iter().flatten() {
            let _ = to.send(Message::End(Line::Pictures));
        }
    }
}

/// Filters whose pictures go to several.
pub struct Branch {
    chain: Chain,
    from: Receiver<Message>,
    takers: Takers,
}

impl Branch {
    pub fn work(mut self, control: &Control) -> Result<()> {
        let mut ready = Vec::new();
        for message in &self.from {
            if control.stopping() {
                return Err(Error::Stopped);
            }
            match message {
                Message::Picture(shown) => self.chain.push(shown, &mut ready)?,
                Message::Sound { .. } | Message::Packet(_) => (),
                Message::End(_) => {
                    self.chain.finish(&mut ready)?;
                    ready.drain(..).try_for_each(|s| self.takers.send(&s))?;
                    self.takers.end();
                    return Ok(());
                }
            }
            ready.drain(..).try_for_each(|s| self.takers.send(&s))?;
        }
        Err(Error::Stopped)
    }
}

pub struct Tree<'a> {
    plan: &'a Plan,
    lines: &'a [&'a MadePlan],
    pool: &'a Pool,
    outputs: &'a [SyncSender<Message>],
    branches: Vec<Branch>,
    chains: Vec<Option<Chain>>,
    roots: Takers,
}

enum Taker {
    Node(usize),
    Output(usize),
}

impl<'a> Tree<'a> {
    pub fn new(
        plan: &'a Plan,
        lines: &'a [&'a MadePlan],
        pool: &'a Pool,
        outputs: &'a [SyncSender<Message>],
    ) -> Result<Tree<'a>> {
        let mut tree = Tree {
            plan,
            lines,
            pool,
            outputs,
            branches: Vec::new(),
            chains: lines.iter().map(|_| None).collect(),
            roots: Takers { to: Vec::new() },
        };
        tree.roots = tree.takers(None)?;
        Ok(tree)
    }

    /// The filters that an output runs itself.
    pub fn chain_of(&mut self, output: usize) -> Chain {
        self.chains.get_mut(output).and_then(Option::take).unwrap_or_else(|| Chain::new(Vec::new()))
    }

    /// Those who take the source's pictures, and the shared filters.
    pub fn take(self) -> (Takers, Vec<Branch>) {
        (self.roots, self.branches)
    }

    fn who_takes(&self, at: Option<usize>) -> Vec<Taker> {
        let nodes = (0..self.plan.nodes.len()).filter(|n| self.plan.nodes[*n].from == at);
        let used = |n: &usize| self.leads_somewhere(*n);
        let outputs = (0..self.lines.len()).filter(|o| self.lines[*o].node() == Some(at));
        nodes.filter(used).map(Taker::Node).chain(outputs.map(Taker::Output)).collect()
    }

    /// A node that an output gave up while it was planned leads nowhere.
    fn leads_somewhere(&self, node: usize) -> bool {
        self.lines.iter().any(|o| {
            std::iter::successors(o.node().flatten(), |n| self.plan.nodes[*n].from).any(|n| n == node)
        })
    }

    fn takers(&mut self, at: Option<usize>) -> Result<Takers> {
        let mut to = Vec::new();
        for taker in self.who_takes(at) {
            to.push(Some(self.follow(taker)?));
        }
        Ok(Takers { to })
    }

    /// From a taker on to where it ends or divides.
    fn follow(&mut self, taker: Taker) -> Result<SyncSender<Message>> {
        let mut filters: Vec<Box<dyn VideoFilter>> = Vec::new();
        let mut taker = taker;
        loop {
            let node = match taker {
                Taker::Output(o) => {
                    self.chains[o] = Some(Chain::new(filters));
                    return Ok(self.outputs[o].clone());
                }
                Taker::Node(n) => n,
            };
            let here = &self.plan.nodes[node];
            let before = here.from.map(|n| &self.plan.nodes[n].form).or(self.plan.source.as_ref());
            let before = before.ok_or_else(|| Error::setting("plan", "a filter without a source"))?;
            filters.push(here.step.start(before, self.pool)?);
            let mut takers = self.who_takes(Some(node));
            match (takers.pop(), takers.is_empty()) {
                (Some(one), true) => taker = one,
                _ => {
                    let takers = self.takers(Some(node))?;
                    let (to, from) = sync_channel(super::QUEUE);
                    self.branches.push(Branch { chain: Chain::new(filters), from, takers });
                    return Ok(to);
                }
            }
        }
    }
}
