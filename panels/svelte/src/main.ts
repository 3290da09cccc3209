import { mount } from 'svelte';
import TidePanel from './tide-panel.svelte';

mount(TidePanel, { target: document.querySelector('#harbour')! });
