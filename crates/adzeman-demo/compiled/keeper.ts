// Works one lock, like lock.lua, in another language. Compiled to Lua by compile.sh.

type Side = "below" | "above";

interface Boat {
    heading: "up" | "down";
    length: number;
}

interface Lock {
    name: string;
    level: number;
    below: number;
    above: number;
    gates: Record<Side, "open" | "shut">;
    waiting: Record<Side, number>;
    boat?: Boat;
}

declare function gate(this: void, side: Side, order: "open" | "shut"): void;
declare function sluice(this: void, side: Side, opening: number): void;

const EVEN = 0.02;
let target: Side = "below";
let turns = 0;

const other = (side: Side): Side => (side === "below" ? "above" : "below");

class Keeper {
    private margin = EVEN;

    /** The pound to level with. */
    choose(lock: Lock): Side {
        const candidates: Side[] = [target, other(target)];
        if (lock.boat) return lock.boat.heading === "up" ? "above" : "below";
        for (const side of candidates) {
            if (lock.waiting[side] > 0) return side;
        }
        return target;
    }

    level(lock: Lock, side: Side): number {
        const apart = Math.abs(lock[side] - lock.level);
        const opening = apart <= this.margin
            ? 0
            : Math.min(1, apart + 0.1);
        sluice(side, opening); sluice(other(side), 0);
        return apart;
    }

    work(lock: Lock): void {
        const wanted = this.choose(lock);
        if (wanted !== target) {
            gate(target, "shut");
            target = wanted;
            turns += 1;
        }
        if (this.level(lock, target) <= this.margin && lock.gates[target] === "shut") {
            gate(target, "open");
        }
    }
}

const keeper = new Keeper();

function update(this: void, dt: number, lock: Lock): void {
    keeper.work(lock);
}

function boat_arrived(this: void, boat: Boat, lock: Lock): void {
    const queue = lock.waiting.below + lock.waiting.above;
    if (queue >= 4) {
        print(`${lock.name}: ${queue} boats are waiting`);
    }
}

function weather_changed(this: void, weather: { wind: number }): void {
    // This keeper does not mind the wind.
}
