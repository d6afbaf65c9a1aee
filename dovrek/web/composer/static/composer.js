// All scripts of the composer.
import "./picture.js";
import "./schedule.js";
import "./curves.js";
import "./section.js";
import "./ribbon.js";
import "./keys.js";
import "./views.js";
import "./handles.js";
import "./places.js";
import "./heroes.js";
import "./reading.js";
import "./panorama.js";
import "./boards.js";
import "./hand.js";
import "./clip.js";
import "./clipkeys.js";
import "./proof.js";
