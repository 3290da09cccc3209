// Texts are compared without colours, whatever the terminal or the environment would allow.
process.env.NO_COLOR = '1';
